using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Change;

/// <summary>A rehearsal of a change: the newest state restored aside and checked, looked at, changed, looked at again, thrown away. Nobody is asked, and nothing stays.</summary>
internal sealed class RehearseChangeKind(Drivers drivers, FleetState fleet, IClock clock) : RestoringKind(drivers, fleet, clock)
{
    public const string KindName = "rehearse-change";

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (asked, driver) = (run.Question<RestoreQuestion>(), Drivers.Named(run.Row.Driver!).Change);
        var target = new ChangeTarget(new(run.Row.Database), asked.Spec(run.Row.Database, run.Row.Id));
        switch (step.Kind)
        {
            case ChangeSteps.Before or ChangeSteps.After:
                return ChangeResult.Said(await driver!.LookAsync(run.Call, target, asked.Change!.Queries, cancel));
            case ChangeSteps.Part:
                var number = RunJson.Read<ChangeSteps.PartWork>(step.Work).Number;
                return ChangeResult.Said(await driver!.DoAsync(run.Call, target, number, 0, asked.Change!.Parts[number - 1], cancel));
            default:
                return await base.DoAsync(run, step, progress, cancel);
        }
    }

    /// <inheritdoc/>
    public override string? Measured(RunContext run) => Of(run) is { } r && (r.Restore is not null || r.Parts.Count > 0) ? RunJson.Write(r) : null;

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, r) = (run.Question<RestoreQuestion>(), Of(run));
        var (broke, took) = (r?.Broke ?? 0, PlainDuration.Of(r?.Seconds ?? 0));
        return Conclude(run, end, $"{asked.Change!.Name}: {took} on {asked.Host}, {(broke == 0 ? "nothing broke" : $"{broke} {(broke == 1 ? "thing" : "things")} broke or became slow")}; the copy is thrown away", keepsClaim: false, now);
    }

    private ChangeResult? Of(RunContext run)
    {
        var asked = run.Question<RestoreQuestion>();
        return Fleet.Has(run.Row.Database) && Fleet.Fleet.Hosts.TryGetValue(new(asked.Host), out var host)
            ? ChangeResult.Of(run.Run, asked.Change!, ChangeForecast.ScaleOf(Fleet.Fleet, Fleet.Fleet.DatabaseById[new(run.Row.Database)], host), Result(run))
            : null;
    }
}
