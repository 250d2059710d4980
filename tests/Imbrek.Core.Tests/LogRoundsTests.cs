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

    [Fact]
    public void A_round_takes_what_was_saved_for_it_though_the_clock_of_whoever_took_it_is_ahead_of_ours()
    {
        var database = new Database { Id = new("d"), Name = "D", Engine = new("e"), Host = new("here"), SizeBytes = 1 };
        var fleet = new FleetModel(
            [new(new("a"), "A", "UTC")], [], [], [new(new("here"), new("a"), null, 1, null, [], [], [])], [new(new("s"), new("a"), null, null, false, 1, 1)], [new(new("e"), "E", 1, 1, 1, 1, 1, 1)], [], [], [database], []);
        Instant Before(double seconds) => Now - Duration.FromSeconds(seconds);
        BackupSet[] sets =
        [
            Set("full", SetKind.Full, null, 10, null, Before(600), Before(600)),
            Set("by-a-plan", SetKind.Log, 10, 20, Before(600), Before(60), Before(59)),
            Set("saved", SetKind.Log, 20, 30, Before(60), Before(1), Before(-2)),
        ];
        var subject = RecoverySubject.Of(fleet, database, new DatabaseCatalogue(new("d"), sets));
        string[] Taken(Instant asOf) => [.. PathFinder.Onwards(subject, asOf, fleet.Hosts[new("here")], 1, Before(600))!.Steps.Select(s => s.Set.Value)];

        // By our clock alone what was saved last is not there yet, and would be left out without a word.
        Assert.Equal(["by-a-plan"], Taken(Now));
        Assert.Equal(["by-a-plan", "saved"], Taken(LogRounds.AsOf(sets[^1], Now)));
        Assert.Equal(Now + Duration.FromSeconds(5), LogRounds.AsOf(sets[^1], Now + Duration.FromSeconds(5)));
    }
}
