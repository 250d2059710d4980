using System.Text.Json.Nodes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.NewDatabase;

/// <summary>
/// A database that is replicated from birth: made, named in the fleet with its group and its plan, copied to each of its replicas, which are proved and watched, and backed up for the first time. How long
/// nothing protected it is measured.
/// </summary>
internal sealed class NewDatabaseKind(Drivers drivers, FleetState fleet, ReplicaBook book, FleetChanges changes, PlanMembers plans, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string KindName = FleetReferences.NewDatabases;

    /// <summary>What was asked.</summary>
    /// <param name="Replica">The first of its replicas; its own name where it has none.</param>
    /// <param name="Part">It as it stands in the fleet file.</param>
    /// <param name="Group">The group it joins; null for none.</param>
    /// <param name="Replicas">Its replicas as they stand in the fleet file.</param>
    /// <param name="Plan">The plan that names it from then on; null where one catches it anyway.</param>
    public sealed record Question(string Replica, string Part, string? Group, IReadOnlyList<string> Replicas, string? Plan) : About(Replica);

    /// <summary>What it came to.</summary>
    /// <param name="UntilReplicatedSeconds">From when it took writes until the last of its replicas was proved; null where it has none.</param>
    /// <param name="UntilBackedUpSeconds">From when it took writes until its first base was there; null where none was taken.</param>
    public sealed record Result(double? UntilReplicatedSeconds, double? UntilBackedUpSeconds);

    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>The steps.</summary>
    public static (Question Asked, Run Run) Plan(Core.Fleet.Database d, JsonObject part, string? group, IReadOnlyList<(Replica Replica, JsonObject Part, double? CopySeconds)> replicas, string? plan, PlanTask? firstBase)
    {
        var steps = new List<Step>();
        steps.Add(Next(steps, "try", $"Try what {d.Name} needs on {string.Join(", ", new[] { d.Host }.Concat(replicas.Select(r => r.Replica.Place.Hosts[0])).Distinct())}: room, engine, settings that must be equal", d.Host.Value, 3, undo: Undo.Nothing) with { Attempts = 2 });
        steps.Add(Next(steps, "create", $"Make it on {d.Host}: it takes writes, and nothing protects it yet", d.Host.Value, 10, undo: Undo.Own));
        steps.Add(Next(steps, "name", $"Name it in the fleet{(group is null ? "" : $", in group {group}")}", d.Id.Value, 1, undo: Undo.Own));
        foreach (var (replica, _, copySeconds) in replicas)
        {
            steps.Add(Next(steps, "name-replica", $"Name {replica.Id} in the fleet; it counts for nothing yet", replica.Id.Value, 1, undo: Undo.Own));
            steps.Add(Next(steps, "copy", $"Copy it to {replica.Place.Hosts[0]}", replica.Id.Value, copySeconds));
            AddProof(steps, replica, 1);
        }

        // Up to here all is taken back when something fails; nobody is let in before.
        steps.Add(Next(steps, "keep", $"It stays from here on{(plan is null ? "" : $": plan {plan} names it")}", d.Id.Value, 1, undo: Undo.Nothing) with { NoWayBack = true });
        if (firstBase is not null)
        {
            steps.Add(BaseStep(steps, "its first", "", firstBase, d.Id));
        }

        return (new Question(replicas.Count == 0 ? d.Id.Value : replicas[0].Replica.Id.Value, part.ToJsonString(), group, [.. replicas.Select(r => r.Part.ToJsonString())], plan), Run.Of(new RunPlan(steps)));
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (asked, id) = (run.Question<Question>(), run.Row.Database);
        switch (step.Kind)
        {
            case "try":
                var model = ReplicaParts.Put(Fleet.Fleet, Parts(asked, id));
                var d = model.DatabaseById[new(id)];
                var checks = new List<CheckResult>(await Drivers.Named(run.Row.Driver!).Maker.TryAsync(run.Call, d, cancel));
                foreach (var host in model.ReplicasOf(d.Id).Select(r => r.Place.Hosts[0]).Distinct())
                {
                    checks.AddRange(await Drivers.Named(run.Row.Driver!).Maker.TryAsync(run.Call, d with { Host = host }, cancel));
                }

                return ReplicaSteps.Of([.. checks, .. Alike(model, d)]);
            case "create":
                return ReplicaSteps.Of(await Drivers.Named(run.Row.Driver!).Maker.CreateAsync(run.Call, Fleet.Has(id) ? Fleet[id].Subject.Database : ReplicaParts.Put(Fleet.Fleet, Parts(asked, id)).DatabaseById[new(id)], cancel));
            case "name":
                if (!Fleet.Has(id))
                {
                    await changes.KeepAsync([FleetParts.Put("databases", id, Object(asked.Part)), .. changes.Joins(asked.Group, id)], "a database is made", run.Row.AskedBy!, cancel);
                }

                return new StepResult();
            case "keep":
                if (asked.Plan is { } plan)
                {
                    await plans.AddAsync(plan, new(id), run.Row.AskedBy!, cancel);
                }

                return new StepResult();
            case "name-replica":
                return await NameReplicaAsync(run, new(step.Subject!), asked.Replicas.Select(Object).First(r => r["id"]!.ToString() == step.Subject), [], changes, cancel);
            case "base":
                return await TakeBaseAsync(run, run.Call, step, cancel);
            default:
                return await DoSharedAsync(run, step, run.Row.Database, progress, cancel) ?? throw new InvalidOperationException(step.Kind);
        }
    }

    public override async Task UndoAsync(RunContext run, Step step, CancellationToken cancel)
    {
        var (asked, id) = (run.Question<Question>(), run.Row.Database);
        switch (step.Kind)
        {
            case "create":
                await Drivers.Named(run.Row.Driver!).Maker.DropAsync(run.Call, new(id), cancel);
                break;
            case "name":
                if (Fleet.Has(id))
                {
                    await changes.KeepAsync([.. changes.Leaves(asked.Group, id), FleetParts.Removed("databases", id)], "it could not be made", run.Row.AskedBy!, cancel);
                }

                break;
            case "name-replica":
                await TakeBackReplicaAsync(run, new(step.Subject!), changes, cancel);
                break;
        }
    }

    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var concluded = base.Conclude(run, end, now);
        return end.State == RunState.Done ? concluded with { LedgerBody = Body(run, end.State, concluded.Note, Measured(run)) } : concluded;
    }

    protected override string Done(RunContext run)
    {
        var r = Measured(run);
        var name = run.Row.Database;
        return $"{name} is there{(r.UntilReplicatedSeconds is { } replicated ? $", replicated and proved {PlainDuration.Of(replicated)} after it took writes" : "")}{(r.UntilBackedUpSeconds is { } saved ? $"; for {PlainDuration.Of(saved)} there was no backup of it" : "; no plan has taken a backup of it yet")}";
    }

    /// <summary>How long it stood alone, by who did the work.</summary>
    private static Result Measured(RunContext run)
    {
        Instant? Ended(string kind) => run.Run.Plan.Steps.Where(s => s.Kind == kind).Select(s => run.Run[s.Number].EndedAt).Max();
        var began = Ended("create");
        return new Result((Ended("prove") - began)?.TotalSeconds, (Ended("base") - began)?.TotalSeconds);
    }

    /// <summary>Everything it adds to the fleet, as far as that is not there yet.</summary>
    private FleetParts.Change[] Parts(Question asked, string id) =>
        [FleetParts.Put("databases", id, Object(asked.Part)), .. changes.Joins(asked.Group, id), .. asked.Replicas.Select(Object).Select(r => FleetParts.Put("replicas", r["id"]!.ToString(), r))];

    private static JsonObject Object(string json) => JsonNode.Parse(json)!.AsObject();

    /// <summary>What must be equal on all its hosts, as far as that is stated.</summary>
    private static IEnumerable<CheckResult> Alike(FleetModel model, Core.Fleet.Database d)
    {
        foreach (var there in model.ReplicasOf(d.Id).Select(r => model.Hosts[r.Place.Hosts[0]]).Distinct())
        {
            var differ = Sides.Differ(model, d, there);
            yield return new($"settings of {there.Id}", differ.Count == 0, differ.Count == 0 ? $"{there.Id} and {d.Host} are set up alike, as far as is stated" : string.Join("; ", differ));
        }
    }
}
