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
        var made = s.RestoreRow("left-open");
        (made.Kind, made.State) = (TemporaryCopyKind.LeftOpen, (short)RunState.Done);
        Instant[] reached = [ActingServer.Now + Duration.FromHours(1), ActingServer.Now + Duration.FromHours(2)];
        await using var data = ImbrekDatabase.Context(s.Source);
        data.Runs.AddRange(
            [made, .. reached.Select((r, i) => Round(1 + i, RunState.Done, r)), .. Enumerable.Range(3, 50).Select(i => Round(i, RunState.Failed, null))]);
        await data.SaveChangesAsync();
        var holding = (await CopyRounds.OfAsync(data, [made], default))[made.Id];
        Assert.Equal((reached[1], 53, "set-2"), (holding.Reached, holding.NextRound, holding.LastSet));
        Assert.False(holding.Opened);
        Assert.True(holding.Rounds.Count < 30);
        Assert.Equal(ActingServer.Now + Duration.FromMinutes(52), holding.Rounds[0].Due);

        RunRow Round(int minute, RunState state, Instant? to)
        {
            var question = new ApplyLogKind.Question(new(made.Id, minute), RestoreQuestion.Of(made)!, ActingServer.Now, false);
            var row = NewRuns.Row(ApplyLogKind.KindName, "d", "nobody", question, made.ToRun(), "ada", ActingServer.Now + Duration.FromMinutes(minute));
            (row.AfterId, row.State, row.Result) = (made.Id, (short)state, to is null ? null : RunJson.Write(new ApplyLogKind.Result(to, 1, $"set-{minute}", 1, 1, [])));
            return row;
        }
    }
}
