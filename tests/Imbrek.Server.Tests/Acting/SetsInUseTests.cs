using Imbrek.Core.Moves;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.CleanUp;
using Microsoft.EntityFrameworkCore;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>What may not be cleaned up because a run reads it.</summary>
public class SetsInUseTests
{
    [Fact]
    public async Task What_a_restore_reads_and_what_it_took_itself_is_in_use_until_it_is_over()
    {
        await using var s = await ActingServer.StartAsync();
        var id = await s.RestoreAsync();
        var (row, run) = await s.IsAsync(id, RunState.Held);
        Assert.Equal(["diff", "full", "log01", "log02"], (await SetsInUse.OfAsync(s.Source, row.Database, default)).Order());

        // The same, with a step that took something; of a driver that nobody has, so that it stays as it is.
        var took = Run.Of(new RunPlan([.. run.Plan.Steps, new Step { Number = run.Plan.Steps.Count + 1, Kind = LogRounds.Save, Title = "take", After = [] }]));
        took = took.Begin(took.Plan.Steps.Count, ActingServer.Now).Finish(took.Plan.Steps.Count, ActingServer.Now, measured: RunJson.Write(new TaskSteps.Measured(1, 1, Set: "taken")));
        var copy = s.RestoreRow("other");
        (copy.Driver, copy.Steps) = ("nobody", RunJson.WriteSteps(took));
        await using var data = ImbrekDatabase.Context(s.Source);
        Assert.True(await NewRuns.AddAsync(data, copy, default));
        Assert.Equal(["diff", "full", "log01", "log02", "taken"], (await SetsInUse.OfAsync(s.Source, row.Database, default)).Order());

        await s.DecideAsync(id, "throw-away");
        await s.IsAsync(id, RunState.Done);
        await data.Runs.Where(r => r.Id == copy.Id).ExecuteUpdateAsync(u => u.SetProperty(r => r.State, (short)RunState.Failed).SetProperty(r => r.Claim, (string?)null));
        Assert.Empty(await SetsInUse.OfAsync(s.Source, row.Database, default));
    }
}
