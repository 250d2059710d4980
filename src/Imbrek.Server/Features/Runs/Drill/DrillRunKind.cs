using System.Text.Json.Nodes;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Drill;

/// <summary>
/// A drill in which roles change: switchover or forced failover, and home again when asked. Markers are written and both sides looked on at throughout; what was lost and how long clients were without
/// service is measured from that, by what was seen and by nothing that was planned.
/// </summary>
internal sealed class DrillRunKind(Drivers drivers, FleetState fleet, ReplicaBook book, FleetChanges changes, IClock clock) : ReplicaKind(drivers, fleet, book, clock), IRunKind
{
    public const string KindName = "drill";

    private const double LookAgainSeconds = 1;

    /// <summary>What was asked.</summary>
    /// <param name="Replica">The replica that becomes the primary.</param>
    /// <param name="Kind">Switchover, forced or automatic.</param>
    /// <param name="Ending">How it ends.</param>
    /// <param name="Loss">The loss a forced one stands for.</param>
    /// <param name="From">The host the database ran on.</param>
    /// <param name="To">The host it runs on then.</param>
    /// <param name="Follower">What the old side is called when it follows.</param>
    /// <param name="Part">The replica as it stands in the fleet file: what the old side becomes is like it.</param>
    /// <param name="PlannedLostSeconds">What was expected to be lost.</param>
    /// <param name="PlannedServiceSeconds">How long it was expected to take until clients are back.</param>
    /// <param name="RpoSeconds">What was agreed then; null when nothing was.</param>
    /// <param name="RtoSeconds">What was agreed then.</param>
    /// <param name="InSpite">What it was begun in spite of, and why; null when nothing stood against it.</param>
    public sealed record Question(
        string Replica, DrillKind Kind, DrillEnding Ending, string Loss, string From, string To, string Follower, string Part, double PlannedLostSeconds, double PlannedServiceSeconds, double? RpoSeconds, double? RtoSeconds, string? InSpite = null) : About(Replica);

    private sealed record InPhase(int Phase);

    /// <summary>What a stop measured, in the words of all steps, and what only it has.</summary>
    private sealed record Stopped(double Seconds, long Bytes, string At, int Markers, string? LastMarker);

    private sealed record Checked(double Seconds, long Bytes, IReadOnlyList<CheckResult> Checks, int MarkersPresent, string? LastMarker);

    private sealed record Returned(double Seconds, long Bytes, string At);

    private sealed record SeenAll(double Seconds, long Bytes, IReadOnlyList<DrillSpan> Seen);

    public override IReadOnlyList<string> Names { get; } = [KindName];

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<Question>();
        if (step.Kind == "base")
        {
            return await TakeBaseAsync(run, CallFor(run, 7), step, cancel);
        }

        var phase = RunJson.Read<InPhase>(step.Work).Phase;
        var (drill, database) = (Drill(run), new Id<Core.Fleet.Database>(run.Row.Database));
        var (from, to, replica) = phase == 0 ? (asked.From, asked.To, asked.Replica) : (asked.To, asked.From, asked.Follower);
        var lost = phase == 0 && asked.Kind == DrillKind.Forced;
        var byItself = phase == 0 && asked.Kind == DrillKind.Automatic;
        switch (step.Kind)
        {
            case "precheck":
                return Of(await Driver(run).TryAsync(run.Call, Known(new(replica)), cancel));
            case "markers":
                var first = await drill.BeginAsync(run.Call, database, new(asked.To), cancel);
                return new StepResult($"the first marker is of {Instants.Write(first)}");
            case "stop":
                var stopped = byItself ? await drill.ProvokeAsync(run.Call, database, cancel) : await drill.StopAsync(run.Call, database, lost ? new(replica) : null, cancel);
                return new StepResult($"{stopped.How}; {stopped.Markers.Count} markers until then", RunJson.Write(new Stopped(0, 0, Instants.Write(stopped.At), stopped.Markers.Count, stopped.Markers.Last is { } last ? Instants.Write(last) : null)));
            case "caught":
                return await CaughtUpAsync(run, phase, replica, cancel);
            case "out":
                var writes = await drill.TakesWritesAsync(run.Call, database, new(from), cancel);
                return new StepResult(writes ? $"{from} still takes writes" : $"a write on {from} is refused", Failed: writes);
            case "promote" when byItself:
                return TookOver(run, to);
            case "promote":
                var p = await Driver(run).PromoteAsync(CallFor(run, phase), new(replica), new(to), null, cancel);
                return new StepResult(
                    $"branch {p.Branch.Id} begins at position {p.Branch.ForkPosition}",
                    RunJson.Write(Promoted.Of(p)));
            case "name":
                return await NamePromotedAsync(run, changes, run.Row.Database, replica, from, PromotedIn(run, phase)!, $"drill: {replica} has become the primary", cancel);
            case "check":
                return await CheckAsync(run, phase, asked, drill, database, cancel);
            case "clients":
                return Of(await drill.SendClientsAsync(run.Call, database, new(to), cancel));
            case "back":
                var at = await drill.ClientsBackAsync(run.Call, database, StoppedIn(run, phase)!.Value, cancel);
                return new StepResult($"a client wrote through the usual address at {Instants.Write(at)}", RunJson.Write(new Returned(0, 0, Instants.Write(at))));
            case "follow":
                return await FollowAsync(run, step.Subject!, from, asked, cancel);
            case "end":
                var all = await drill.SeenAsync(run.Row.Id, database, cancel);
                await drill.EndAsync(run.Call, database, cancel);
                return new StepResult(Measured: RunJson.Write(new SeenAll(0, 0, all)));
            default:
                return await DoSharedAsync(run, step, from, progress, cancel) ?? throw new InvalidOperationException(step.Kind);
        }
    }

    public override async Task UndoAsync(RunContext run, Step step, CancellationToken cancel)
    {
        var (asked, database) = (run.Question<Question>(), new Id<Core.Fleet.Database>(run.Row.Database));
        switch (step.Kind)
        {
            case "stop":
                await Drill(run).GoOnAsync(run.Call, database, asked.Kind == DrillKind.Forced ? new(asked.Replica) : null, cancel);
                break;
            case "markers":
                await Drill(run).EndAsync(run.Call, database, cancel);
                break;
        }
    }

    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, result) = (run.Question<Question>(), Result(run));
        var concluded = base.Conclude(run, end, now);
        var done = end.State == RunState.Done;
        var note = !done ? concluded.Note
            : result.Passed == true ? $"passed: {(result.Changes.Count > 1 ? "there and home again, each " : "")}within what was agreed"
            : $"did not pass: {string.Join("; ", result.Failed)}";
        var proofs = done && result.Changes.Count > 0 && Fleet.Has(run.Row.Database) ? new[] { ProofOf(run, asked, result, now) } : null;
        return concluded with { Note = note, LedgerBody = Body(run, end.State, note, new { kind = asked.Kind, ending = asked.Ending, loss = asked.Loss, from = asked.From, to = asked.To, inSpite = asked.InSpite, planned = new { lostSeconds = asked.PlannedLostSeconds, serviceSeconds = asked.PlannedServiceSeconds }, measured = result with { Seen = [] } }), Proofs = proofs };
    }

    /// <summary>What it has measured so far; null before roles change.</summary>
    public string? Measured(RunContext run) => StoppedIn(run, 0) is null ? null : RunJson.Write(Result(run));

    protected override string Done(RunContext run) => "";

    private ProofRow ProofOf(RunContext run, Question asked, DrillResult result, Instant now)
    {
        var d = Fleet[run.Row.Database].Subject.Database;

        // The roles have changed since: what the loss took was where the database ran then.
        var loss = asked.Kind == DrillKind.Switchover ? Loss.None : Loss.Kept(asked.Loss, Fleet.Fleet);
        var proof = new Proof(now, result.Changes.Max(c => c.LostSeconds ?? 0), result.Changes.Max(c => c.ServiceSeconds ?? 0), result.Passed == true, d.SizeBytes, d.Version, loss.Kind, TookOver: true);
        return ProofRow.Of(d.Id, proof, loss, new(asked.To), run.Row.Id);
    }

    private IDrillDriver Drill(RunContext run) => Drivers.Named(run.Row.Driver!).Drill ?? throw new DriverException(DriverProblem.Refused, $"the drivers named {run.Row.Driver} change no roles");

    private async Task<StepResult> CaughtUpAsync(RunContext run, int phase, string replica, CancellationToken cancel)
    {
        // One that applies late on purpose holds the rest, and applies it when it is promoted.
        var (stopped, applies) = (StoppedIn(run, phase)!.Value, Known(new(replica)).DelaySeconds == 0);
        if (await Drill(run).HoldsAllAsync(run.Call, new(run.Row.Database), new(replica), cancel) is var (received, applied))
        {
            return received && (applied || !applies)
                ? new StepResult("it holds all that was committed", RestoreAside.Write(new RestoreAside.Measured((Clock.GetCurrentInstant() - stopped).TotalSeconds, 0)))
                : new StepResult(received ? "all is received, and not yet applied" : "not all is received", LookAgainAfter: Duration.FromSeconds(LookAgainSeconds));
        }

        var look = await Driver(run).LookAsync(run.Call, new(replica), cancel);
        if (look.Unusable)
        {
            return new StepResult(look.HeldUpBy, Failed: true);
        }

        var holds = applies ? Instant.Min(look.ReceivedTo, look.AppliedTo) : look.ReceivedTo;
        return holds >= stopped
            ? new StepResult("it holds all that was committed", RestoreAside.Write(new RestoreAside.Measured((look.At - stopped).TotalSeconds, 0, Instants.Write(look.ReceivedTo), look.Position)))
            : new StepResult($"{PlainDuration.Of((stopped - holds).TotalSeconds)} to go{(look.HeldUpBy is { } by ? $": {by}" : "")}", LookAgainAfter: Duration.FromSeconds(LookAgainSeconds));
    }

    /// <summary>Whether the database runs on another host now, of which nobody was asked: who watches it has named it in the fleet.</summary>
    private StepResult TookOver(RunContext run, string to)
    {
        var d = Fleet[run.Row.Database].Subject.Database;
        if (d.Host.Value != to || d.Branches.Count == 0)
        {
            return new StepResult("it has not taken over yet", LookAgainAfter: Duration.FromSeconds(LookAgainSeconds));
        }

        var b = d.Branches[^1];
        return new StepResult(
            $"branch {b.Id} begins at position {b.ForkPosition}",
            RunJson.Write(new Promoted(0, 0, Instants.Write(b.ForkAt), b.ForkPosition, b.Id, b.Parent, Instants.Write(b.StartsAt), to, 0, null, [])));
    }

    private async Task<StepResult> CheckAsync(RunContext run, int phase, Question asked, IDrillDriver drill, Id<Core.Fleet.Database> database, CancellationToken cancel)
    {
        var began = Clock.GetCurrentInstant();
        var stopped = StopIn(run, phase)!;
        var checks = new List<CheckResult>(await drill.CheckAsync(run.Call, database, cancel));
        var present = await drill.MarkersAsync(run.Call, database, Instants.Parse(stopped.At), cancel);
        var missing = stopped.Markers - present.Count;
        var mayLose = phase == 0 && asked.Kind == DrillKind.Forced;
        checks.Add(new("markers", missing <= 0 || mayLose, missing <= 0 ? $"all {stopped.Markers} markers are here" : $"{missing} of {stopped.Markers} markers are not here{(present.Last is { } last ? $"; the last is of {Instants.Write(last)}" : "")}"));
        var both = new DrillTrail(await drill.SeenAsync(run.Row.Id, database, cancel)).BothWritable;
        checks.Add(new("one side writable", both == 0, both == 0 ? "no second in which both sides took a write" : $"both sides took writes in {both} seconds"));
        var failed = checks.Where(c => !c.Passed).ToArray();

        // What did not pass is said at the end: clients are without service, and there is no way back.
        return new StepResult(
            failed.Length == 0 ? $"{checks.Count} checks passed" : $"did not pass: {string.Join("; ", failed.Select(c => $"{c.Name}: {c.Detail}"))}",
            RunJson.Write(new Checked((Clock.GetCurrentInstant() - began).TotalSeconds, 0, checks, present.Count, present.Last is { } l ? Instants.Write(l) : null)));
    }

    /// <summary>The host that is left becomes a replica of the new primary, like the one that took over; one that had its name before is one again.</summary>
    private Task<StepResult> FollowAsync(RunContext run, string id, string host, Question asked, CancellationToken cancel)
    {
        var part = JsonNode.Parse(asked.Part)!.AsObject();
        foreach (var member in (string[])["from", "since", "until"])
        {
            part.Remove(member);
        }

        (part["id"], part["host"]) = (id, host);
        return NameReplicaAsync(run, new(id), part, [], changes, cancel);
    }

    private static DrillResult Result(RunContext run)
    {
        var asked = run.Question<Question>();
        var seen = MeasuredBy<SeenAll>(run, "end", 0)?.Seen ?? [];
        var changes = new List<DrillResult.RoleChange>();
        for (var phase = 0; StopIn(run, phase) is { } stop; phase++)
        {
            var stopped = Instants.Parse(stop.At);
            var (promoted, check, back) = (PromotedIn(run, phase), MeasuredBy<Checked>(run, "check", phase), MeasuredBy<Returned>(run, "back", phase));
            Instant? backAt = back is null ? null : Instants.Parse(back.At);
            var missing = check is null ? (int?)null : Math.Max(0, stop.Markers - check.MarkersPresent);

            // Of what was committed last on the new primary: its last change, or the last marker, whichever is later.
            double? lost = promoted is null || check is null ? null
                : missing == 0 && promoted.LostTransactions is null or 0 ? 0
                : Math.Max(0, (stopped - Instant.Max(Instants.Parse(promoted.Reached!), check.LastMarker is { } m ? Instants.Parse(m) : Instant.MinValue)).TotalSeconds);
            changes.Add(new(
                phase == 0 ? asked.From : asked.To,
                phase == 0 ? asked.To : asked.From,
                stopped,
                backAt,
                lost,
                stop.Markers,
                missing,
                backAt is { } b ? (b - stopped).TotalSeconds : null,
                PeopleSeconds(run, stopped, backAt),
                phase == 0 ? asked.PlannedServiceSeconds : null,
                phase == 0 ? asked.PlannedLostSeconds : 0,
                check?.Checks ?? []));
        }

        var both = new DrillTrail(seen).BothWritable;
        var failed = new List<string>();
        foreach (var c in changes.Where(c => c.BackAt is not null))
        {
            failed.AddRange(c.Checks.Where(x => !x.Passed).Select(x => $"{x.Name}: {x.Detail}"));
            if (c.LostSeconds > (asked.RpoSeconds ?? double.PositiveInfinity))
            {
                failed.Add($"it lost {PlainDuration.Beyond(c.LostSeconds!.Value, asked.RpoSeconds!.Value)}");
            }

            if (c.ServiceSeconds > (asked.RtoSeconds ?? double.PositiveInfinity))
            {
                failed.Add($"clients were back after {PlainDuration.Beyond(c.ServiceSeconds!.Value, asked.RtoSeconds!.Value)}");
            }
        }

        if (both > 0 && !failed.Any(f => f.StartsWith("one side writable", StringComparison.Ordinal)))
        {
            failed.Add($"both sides took writes in {both} seconds");
        }

        return new DrillResult(changes, seen, both, changes.Any(c => c.BackAt is not null) ? failed.Count == 0 : null, failed);
    }

    /// <summary>Within a change of roles, the seconds in which only people were waited for.</summary>
    private static double PeopleSeconds(RunContext run, Instant from, Instant? to) => to is null ? 0 : run.Run.Plan.Steps.Where(s => s.IsHold)
        .Select(s => run.Run[s.Number]).Where(p => p is { StartedAt: not null, EndedAt: not null })
        .Sum(p => Math.Max(0, (Instant.Min(to.Value, p.EndedAt!.Value) - Instant.Max(from, p.StartedAt!.Value)).TotalSeconds));

    private static Stopped? StopIn(RunContext run, int phase) => MeasuredBy<Stopped>(run, "stop", phase);

    private static Instant? StoppedIn(RunContext run, int phase) => StopIn(run, phase) is { } s ? Instants.Parse(s.At) : null;

    private static Promoted? PromotedIn(RunContext run, int phase) => MeasuredBy<Promoted>(run, "promote", phase);

    private static T? MeasuredBy<T>(RunContext run, string kind, int phase)
        where T : class =>
        run.Run.Plan.Steps.Where(s => s.Kind == kind && RunJson.Read<InPhase>(s.Work).Phase == phase).Select(s => run.Run[s.Number].Measured).FirstOrDefault(m => m is not null) is { } measured ? RunJson.Read<T>(measured) : null;
}
