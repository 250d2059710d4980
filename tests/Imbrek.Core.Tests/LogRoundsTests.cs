using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>What a round of log takes along.</summary>
public class LogRoundsTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 3, 2, 12, 0);

    private static BackupSet Set(string id, SetKind kind, long? from, long to, Instant? coversFrom, Instant coversTo, Instant there) => new()
    {
        Id = new(id),
        Database = new("d"),
        Kind = kind,
        FromPosition = from,
        ToPosition = to,
        CoversFrom = coversFrom,
        CoversTo = coversTo,
        FinishedAt = there,
        DataBytes = 1,
        RollForward = from is null,
        Copies = [new(new("s"), there, null, null, 1, CopyState.Good)],
    };

    private static RecoverySubject Of(IReadOnlyCollection<BackupSet> sets)
    {
        var database = new Database { Id = new("d"), Name = "D", Engine = new("e"), Host = new("here"), SizeBytes = 1 };
        var fleet = new FleetModel(
            [new(new("a"), "A", "UTC")], [], [], [new(new("here"), new("a"), null, 1, null, [], [], [])], [new(new("s"), new("a"), null, null, false, 1, 1)], [new(new("e"), "E", 1, 1, 1, 1, 1, 1)], [], [], [database], []);
        return RecoverySubject.Of(fleet, database, new DatabaseCatalogue(new("d"), sets));
    }

    [Fact]
    public void A_round_takes_what_was_saved_for_it_though_the_clock_of_whoever_took_it_is_ahead_of_ours()
    {
        Instant Before(double seconds) => Now - Duration.FromSeconds(seconds);
        BackupSet[] sets =
        [
            Set("full", SetKind.Full, null, 10, null, Before(600), Before(600)),
            Set("by-a-plan", SetKind.Log, 10, 20, Before(600), Before(60), Before(59)),
            Set("saved", SetKind.Log, 20, 30, Before(60), Before(1), Before(-2)),
        ];
        var subject = Of(sets);
        string[] Taken(Instant asOf) => [.. PathFinder.Onwards(subject, asOf, subject.Fleet.Hosts[new("here")], 1, Before(600))!.Steps.Select(s => s.Set.Value)];

        // By our clock alone what was saved last is not there yet, and would be left out without a word.
        Assert.Equal(["by-a-plan"], Taken(Now));
        Assert.Equal(["by-a-plan", "saved"], Taken(LogRounds.AsOf(sets[^1], Now)));
        Assert.Equal(Now + Duration.FromSeconds(5), LogRounds.AsOf(sets[^1], Now + Duration.FromSeconds(5)));
    }

    /// <summary>Log in a row, each written in or idle in all combinations: from every instant on it goes to every later one, by logs of which each applies to where the one before ended.</summary>
    [Fact]
    public void From_any_instant_log_goes_on_to_any_later_one_also_through_times_in_which_nothing_was_written()
    {
        const int count = 6, minutes = 10, written = 100;
        Instant At(int minute) => Now + Duration.FromMinutes(minute);
        for (var idle = 0; idle < 1 << count; idle++)
        {
            var positions = new long[count + 1];
            for (var i = 0; i < count; i++)
            {
                positions[i + 1] = positions[i] + ((idle >> i & 1) == 1 ? 0 : written);
            }

            var sets = Enumerable.Range(0, count).Select(i => Set($"log-{i}", SetKind.Log, positions[i], positions[i + 1], At(i * minutes), At((i + 1) * minutes), At((i + 1) * minutes)))
                .Prepend(Set("full", SetKind.Full, null, 0, null, At(0), At(0))).ToDictionary(s => s.Id);
            var subject = Of([.. sets.Values]);
            for (var from = 0; from < count * minutes; from += 5)
            {
                for (var to = from + 5; to <= count * minutes; to += 5)
                {
                    var path = PathFinder.Onwards(subject, At(count * minutes), subject.Fleet.Hosts[new("here")], 1, At(from), At(to))!;
                    Assert.Equal(At(to), path.Reaches);
                    var within = from / minutes;
                    var position = positions[within] + ((positions[within + 1] - positions[within]) * (from % minutes) / minutes);
                    foreach (var log in path.Steps.Select(s => sets[s.Set]))
                    {
                        Assert.True(log.FromPosition <= position && position <= log.ToPosition, $"idle {idle:b}, {from} to {to}: {log.Id} does not apply at {position}");
                        position = log.ToPosition;
                    }
                }
            }
        }
    }
}
