using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Copies;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.ApplyLog;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using NodaTime;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>What a copy holds is known from its runs, however many there are.</summary>
public class CopyRoundsTests
{
    [Fact]
    public async Task What_a_copy_holds_is_what_its_last_round_that_went_well_reached_however_many_failed_since()
    {
        await using var s = await ActingServer.StartAsync();
        var path = PathFinder.Find(s.Fleet["d"].Subject, new PathQuestion { Target = ActingServer.Now, At = ActingServer.Now, Loss = Loss.None }).Best!;
        var asked = new RestoreQuestion("none", ActingServer.Now, null, null, null, path.Host.Value, "left-open", RestoreQuestion.Promise.Of(path));
        var steps = Run.Of(new RunPlan([.. RestoreAside.Steps(s.Fleet["d"].Subject.Database, path, "left-open", held: false)]));
        var made = Of(TemporaryCopyKind.LeftOpen, 0, RunState.Done, null);
        made.Claim = asked.Claim;
        Instant[] reached = [ActingServer.Now + Duration.FromHours(1), ActingServer.Now + Duration.FromHours(2)];
        await using var data = ImbrekDatabase.Context(s.Source);
        data.Runs.AddRange(
            [made, .. reached.Select((r, i) => Round(1 + i, RunState.Done, r)), .. Enumerable.Range(3, 50).Select(i => Round(i, RunState.Failed, null))]);
        await data.SaveChangesAsync();
        var holding = (await CopyRounds.OfAsync(data, [made], default))[made.Id];
        Assert.Equal((reached[1], 52, "set-2"), (holding.Reached, holding.Count, holding.LastSet));
        Assert.False(holding.Opened);
        Assert.True(holding.Rounds.Count < 30);
        Assert.Equal(ActingServer.Now + Duration.FromMinutes(52), holding.Rounds[0].Due);

        RunRow Round(int minute, RunState state, Instant? to)
        {
            var row = Of(ApplyLogKind.KindName, minute, state, to is null ? null : RunJson.Write(new ApplyLogKind.Result(to, 1, $"set-{minute}", 1, 1, [])));
            row.AfterId = made.Id;
            return row;
        }

        RunRow Of(string kind, int minute, RunState state, string? result)
        {
            var due = ActingServer.Now + Duration.FromMinutes(minute);
            var row = kind == ApplyLogKind.KindName
                ? NewRuns.Row(kind, "d", "nobody", new ApplyLogKind.Question(new(Guid.Empty, minute), asked, ActingServer.Now, false), steps, "ada", due)
                : NewRuns.Row(kind, "d", "nobody", asked, steps, "ada", due);
            (row.State, row.Result) = ((short)state, result);
            return row;
        }
    }
}
