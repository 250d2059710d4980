using System.Text.Json.Nodes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Moves;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.SecondDatabase;

/// <summary>
/// A second database of one: as it was at an instant, under another name; or as of one instant after it was asked for, on another host. Restored, checked, held; released it is made a database of its own, named in the fleet,
/// taken up by a plan and backed up for the first time. Thrown away, called off or failed before it is kept, nothing of it is left.
/// </summary>
internal sealed class SecondDatabaseKind(Drivers drivers, FleetState fleet, FleetChanges changes, PlanMembers plans, IClock clock) : FollowingKind(drivers, fleet, clock)
{
    public const string KindName = "second-database";

    /// <summary>What was asked.</summary>
    /// <param name="Restore">What is restored for it.</param>
    /// <param name="Id">What it is called.</param>
    /// <param name="Part">It as it is to stand in the fleet file.</param>
    /// <param name="Names">What its files and accounts are called.</param>
    /// <param name="Plan">The plan that names it from then on; null where one catches it anyway, or none does.</param>
    /// <param name="Figures">Where it follows until it has caught up: the figures it was planned with; null where it is as it was at an instant.</param>
    /// <param name="Forecast">What they come to.</param>
    public sealed record Question(RestoreQuestion Restore, string Id, string Part, IReadOnlyList<MappedName> Names, string? Plan, MoveQuestion? Figures, MoveForecast? Forecast);

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        switch (step.Kind)
        {
            case Core.Recovery.SecondDatabase.Try:
                var whyNot = NameMapping.WhyNot(await Maker(run).NamesAsync(new(run.Row.Database), new(asked.Restore.Host), cancel), asked.Names);
                return ReplicaSteps.Of([.. await Maker(run).TryAsync(run.Call, Database(asked), cancel), new CheckResult("names", whyNot is null, whyNot ?? $"{asked.Names.Count} names of files and accounts are free on {asked.Restore.Host}")]);
            case "check":
                var checks = await Drivers.Named(run.Row.Driver!).Restore.CheckAsync(
                    run.Call, asked.Restore.Spec(run), asked.Figures is null ? asked.Restore.Planned.Reaches : LogRounds.ReachedBy(run.Run) ?? asked.Restore.Planned.Reaches, new CheckWish(asked.Restore.Query), cancel);
                return SaidOf(new RestoreAside.Measured(0, 0, Checks: checks));
            case Core.Recovery.SecondDatabase.Make:
                await Maker(run).AdoptAsync(run.Call, asked.Restore.Spec(run), Database(asked), asked.Names, cancel);
                return new StepResult(string.Join(", ", asked.Names.Where(n => n.From != n.To).Select(n => $"{n.From} is {n.To}")) is { Length: > 0 } mapped ? mapped : "all names stay");
            case Core.Recovery.SecondDatabase.Name:
                if (!Fleet.Has(asked.Id))
                {
                    await changes.KeepAsync([FleetParts.Put("databases", asked.Id, Part(asked))], $"it is made of {run.Row.Database}", run.Row.AskedBy!, cancel);
                }

                return new StepResult();
            case Core.Recovery.SecondDatabase.Keep:
                if (asked.Plan is { } plan)
                {
                    await plans.AddAsync(plan, new(asked.Id), run.Row.AskedBy!, cancel);
                }

                return new StepResult();
            default:
                return await base.DoAsync(run, step, progress, cancel);
        }
    }

    /// <inheritdoc/>
    public override async Task UndoAsync(RunContext run, Step step, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        switch (step.Kind)
        {
            case Core.Recovery.SecondDatabase.Name:
                if (Fleet.Has(asked.Id))
                {
                    await changes.KeepAsync([FleetParts.Removed("databases", asked.Id)], "it could not be made", run.Row.AskedBy!, cancel);
                }

                break;
            case NeededSetting.Set:
                await base.UndoAsync(run, step, cancel);
                break;
            default:
                // It may have been made of what was restored.
                await Maker(run).DropAsync(run.Call, new(asked.Id), cancel);
                await base.UndoAsync(run, step, cancel);
                break;
        }
    }

    /// <inheritdoc/>
    public override (Amendment? Amendment, string? WhyNot) GoOn(RunContext run, DriverException failure) =>
        run.Question<Question>().Figures is null ? base.GoOn(run, failure) : (null, "begun anew, it reads other copies");

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var asked = run.Question<Question>();
        return Conclude(run, end, Stays(run) ? $"{asked.Id} lives on {asked.Restore.Host}, as {run.Row.Database} was at {Instants.Write(Result(run)?.Reached ?? asked.Restore.Planned.Reaches)}" : "checked, then thrown away", keepsClaim: false, now);
    }

    /// <inheritdoc/>
    protected override object? Made(RunContext run)
    {
        var asked = run.Question<Question>();
        return Stays(run) ? new { database = asked.Id, names = asked.Names, rounds = asked.Figures is null ? null : LogRounds.MeasuredBy(run.Run).Select(r => r.Round) } : null;
    }

    /// <summary>Whether it is there for good.</summary>
    private static bool Stays(RunContext run) => run.Run.Plan.Steps.Any(s => s.Kind == Core.Recovery.SecondDatabase.Keep && run.Run[s.Number].State == StepState.Done);

    /// <summary>It as it stands in the fleet, or will.</summary>
    private Core.Fleet.Database Database(Question asked) =>
        (Fleet.Has(asked.Id) ? Fleet.Fleet : ReplicaParts.Put(Fleet.Fleet, [FleetParts.Put("databases", asked.Id, Part(asked))])).DatabaseById[new(asked.Id)];

    private ICreateDriver Maker(RunContext run) => Drivers.Named(run.Row.Driver!).Maker;

    private static JsonObject Part(Question asked) => JsonNode.Parse(asked.Part)!.AsObject();
}
