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
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.TakeOver;

/// <summary>
/// A replica takes over outside a drill: the old side is kept out, a second person approves where something may be lost, a new branch begins, the database runs on its new host from then on and
/// takes its first full there; the other replicas follow or are named.
/// </summary>
internal sealed class TakeOverKind(Drivers drivers, FleetState fleet, ReplicaBook book, FleetChanges changes, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string KindName = "take-over";

    /// <summary>What was asked, and what was said then.</summary>
    /// <param name="Replica">Which replica.</param>
    /// <param name="Host">Where the database runs from then on.</param>
    /// <param name="From">Where it ran.</param>
    /// <param name="LostSeconds">What may be lost by the figures, seconds.</param>
    /// <param name="LostBytes">The same, bytes; null when the log rate is not stated.</param>
    public sealed record Question(string Replica, string Host, string From, double LostSeconds, long? LostBytes) : About(Replica);

    /// <summary>What it came to.</summary>
    public sealed record Result(int Branch, long ForkPosition, string ForkAt, string StartsAt, string Host, double LostSeconds, long? LostTransactions, IReadOnlyList<string> Left);

    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>Its steps.</summary>
    public static Run Plan(Question asked, Id<Core.Fleet.Database> database, Promoting promoting)
    {
        var steps = new List<Step>();
        steps.Add(Next(steps, "look", "Look how far it is, from both sides", asked.Replica, 1, undo: Undo.Nothing));
        steps.Add(Next(steps, "fence", $"Keep the old side on {asked.From} out{(asked.LostSeconds > 0 ? $": up to {PlainDuration.Of(asked.LostSeconds)} may be lost when {asked.Replica} takes over" : "")}", asked.From, 2, undo: Undo.Own) with
        {
            // Asked before anything stops: while a second person is looked for, people go on working.
            NeedsApproval = promoting.NeedsApproval,
            Owner = promoting.NeedsApproval ? Roles.Approve : Step.Product,
        });
        steps.Add(Next(steps, "promote", $"{asked.Replica} takes over on {asked.Host}", asked.Host, promoting.Way?.Seconds, undo: Undo.Nothing) with { NoWayBack = true });
        steps.Add(Next(steps, "name", "Name the new branch and the new host in the fleet; the other replicas follow or are named", asked.Host, 1, undo: Undo.Nothing));
        if (promoting.FirstBase is { } task)
        {
            steps.Add(Next(steps, "base", $"Take the first {task.Kind.Makes()!.Value.ToString().ToLowerInvariant()} of the new branch into {task.Store}", task.Store!.Value.Value, undo: Undo.Nothing, limit: 86_400) with
            {
                Work = RunJson.Write(TakeSpec.Of(task, database)),
            });
        }

        return Run.Of(new RunPlan(steps));
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (asked, driver) = (run.Question<Question>(), Driver(run));
        switch (step.Kind)
        {
            case "look":
                var look = await driver.LookAsync(run.Call, new(asked.Replica), cancel);
                var lacks = (look.At - look.ReceivedTo).TotalSeconds;
                return new StepResult(
                    $"it has everything committed up to {Instants.Write(look.ReceivedTo)}, {PlainDuration.Of(lacks)} ago",
                    RestoreAside.Write(new RestoreAside.Measured(0, 0, Instants.Write(look.ReceivedTo), look.Position)));
            case "fence":
                return new StepResult(await driver.FenceAsync(run.Call, new(run.Row.Database), cancel));
            case "promote":
                var p = await driver.PromoteAsync(run.Call, new(asked.Replica), new(asked.Host), cancel);
                return new StepResult(
                    $"branch {p.Branch.Id} begins at position {p.Branch.ForkPosition}; lost: {(p.LostTransactions is 0 || p.LostSeconds == 0 ? "nothing" : $"{p.LostTransactions} commits over {PlainDuration.Of(p.LostSeconds)}")}",
                    RunJson.Write(new Promoted(p.Seconds, 0, Instants.Write(p.Branch.ForkAt), p.Branch.ForkPosition, null, p.Branch.Id, p.Branch.Parent, Instants.Write(p.Branch.StartsAt), p.Host.Value, p.LostSeconds, p.LostTransactions, [.. p.Left.Select(l => $"{l.Replica}: {l.Why}")])));
            case "name":
                return await NameAsync(run, asked, cancel);
            default:
                var taken = await Drivers.Named(run.Row.Driver!).Backup.TakeAsync(run.Call, RunJson.Read<TakeSpec>(step.Work), cancel);
                return new StepResult(taken.Nothing ?? taken.Note ?? taken.Set?.Id.Value, RestoreAside.Write(new RestoreAside.Measured(taken.Seconds, taken.Bytes)), Sets: taken.Set is { } set ? [set] : null);
        }
    }

    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => Driver(run).LetInAsync(run.Call, new(run.Row.Database), cancel);

    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var concluded = base.Conclude(run, end, now);
        var promoted = PromotedIn(run);
        var note = promoted is { Left.Count: > 0 } ? $"{concluded.Note}; do not follow: {string.Join("; ", promoted.Left)}" : concluded.Note;
        if (promoted is null || !Fleet.Has(run.Row.Database))
        {
            return concluded;
        }

        // Taking over is a proof of taking over: what was lost and how long it took, measured.
        var d = Fleet[run.Row.Database].Subject.Database;
        var began = run.Row.Started ?? now;
        var promote = run.Run.Plan.Steps.First(s => s.Kind == "promote").Number;
        var waited = run.Run[promote].StartedAt is { } started && run.Run[promote].EndedAt is { } ended ? (ended - started).TotalSeconds : promoted.Seconds;
        var before = run.Run.Plan.Steps.Where(s => s.Kind is "look" or "fence").Sum(s => run.Run[s.Number] is { StartedAt: { } a, EndedAt: { } b } ? (b - a).TotalSeconds : 0);
        return concluded with
        {
            Note = note,
            LedgerBody = Body(run, end.State, note, new Result(promoted.Branch, promoted.Position ?? 0, promoted.Reached!, promoted.StartsAt, promoted.Host, promoted.LostSeconds, promoted.LostTransactions, promoted.Left)),
            Proof = new ProofRow
            {
                Database = run.Row.Database,
                At = now,
                LostSeconds = promoted.LostTransactions == 0 ? 0 : promoted.LostSeconds,
                ServiceSeconds = d.DetectSeconds + d.DecideSeconds + before + waited + d.RedirectSeconds,
                Passed = end.State == RunState.Done,
                SizeBytes = d.SizeBytes,
                Version = d.Version,
                Loss = "host",
                Host = promoted.Host,
                RunId = run.Row.Id,
                TookOver = true,
            },
        };
    }

    protected override string Done(RunContext run) => PromotedIn(run) is { } p ? $"{run.Question<Question>().Replica} has taken over on {p.Host}; branch {p.Branch} is the live one" : "";

    private sealed record Promoted(
        double Seconds, long Bytes, string? Reached, long? Position, IReadOnlyList<CheckResult>? Checks, int Branch, int Parent, string StartsAt, string Host, double LostSeconds, long? LostTransactions, IReadOnlyList<string> Left);

    private static Promoted? PromotedIn(RunContext run) =>
        run.Run.Plan.Steps.Where(s => s.Kind == "promote").Select(s => run.Run[s.Number].Measured).FirstOrDefault(m => m is not null) is { } measured ? RunJson.Read<Promoted>(measured) : null;

    /// <summary>What a take over changes in the fleet: the branch that began and the host it runs on, unless that is named already; the replica is one no more, and who it fed is fed by the primary.</summary>
    public static IReadOnlyList<FleetParts.Change> Named(FleetChanges changes, FleetModel fleet, string id, Branch branch, string host, string from, string replica)
    {
        var database = changes.Find("databases", id)!;
        var branches = database["branches"] as JsonArray ?? [];
        if (branches.All(b => b?["id"]?.GetValue<int>() != branch.Id))
        {
            database["branches"] = new JsonArray([.. branches.Select(b => b?.DeepClone()), FleetParts.Of(branch)]);
        }

        // Who follows an engine's log may have named the branch before; the host is ours to name.
        if (database["host"]?.ToString() == host)
        {
            return [];
        }

        database["host"] = host;
        if (database["recoveryHosts"] is JsonArray hosts)
        {
            // It runs there now; the host it ran on is one it may come back to.
            database["recoveryHosts"] = new JsonArray([.. hosts.Select(h => h!.ToString()).Where(h => h != host).Append(from).Distinct().Select(h => (JsonNode)h)]);
        }

        return [.. RemoveReplica.RemoveReplicaKind.Refed(changes, fleet, new(replica), null), RemoveReplica.RemoveReplicaKind.Ended(changes, replica, branch.StartsAt), FleetParts.Put("databases", id, database)];
    }

    private async Task<StepResult> NameAsync(RunContext run, Question asked, CancellationToken cancel)
    {
        var p = PromotedIn(run)!;
        var branch = new Branch(p.Branch, p.Parent, p.Position ?? 0, Instants.Parse(p.Reached!), Instants.Parse(p.StartsAt));
        if (Named(changes, Fleet.Fleet, run.Row.Database, branch, p.Host, asked.From, asked.Replica) is { Count: > 0 } named)
        {
            await changes.KeepAsync(named, $"{asked.Replica} has taken over", run.Row.AskedBy!, cancel);
        }

        await Book.ForgetAsync(new(asked.Replica), cancel);
        return new StepResult(p.Left.Count == 0 ? "all other replicas follow" : $"do not follow: {string.Join("; ", p.Left)}");
    }
}
