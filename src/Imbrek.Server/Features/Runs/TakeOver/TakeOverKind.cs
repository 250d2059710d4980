using System.Text.Json.Nodes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
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
/// takes its first full there; the other replicas follow or are named. Those of a group take over together, and all stop at one instant.
/// </summary>
internal sealed class TakeOverKind(Drivers drivers, FleetState fleet, ReplicaBook book, FleetChanges changes, IClock clock) : ReplicaKind(drivers, fleet, book, clock)
{
    public const string KindName = "take-over";

    /// <summary>What was asked.</summary>
    /// <param name="Replica">Which replica.</param>
    /// <param name="Members">It, and those of its group that take over with it, in the order of its databases.</param>
    public sealed record Question(string Replica, IReadOnlyList<Member> Members) : About(Replica);

    /// <summary>A replica that takes over, and what was said then.</summary>
    /// <param name="Replica">Which replica.</param>
    /// <param name="Database">Of which database.</param>
    /// <param name="Host">Where the database runs from then on.</param>
    /// <param name="From">Where it ran.</param>
    /// <param name="LostSeconds">What may be lost by the figures, seconds.</param>
    /// <param name="LostBytes">The same, bytes; null when the log rate is not stated.</param>
    public sealed record Member(string Replica, string Database, string Host, string From, double LostSeconds, long? LostBytes);

    /// <summary>What a step is about: a member, by its place.</summary>
    private sealed record AboutMember(int Member);

    /// <summary>What it came to for one member.</summary>
    public sealed record Result(string Replica, int Branch, long ForkPosition, string ForkAt, string StartsAt, string Host, double LostSeconds, long? LostTransactions, IReadOnlyList<string> Left);

    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>What a take over claims: what belongs together is taken over by one run at a time.</summary>
    public static string ClaimOf(FleetModel fleet, Id<Core.Fleet.Database> database) => $"{(fleet.GroupOf(database) is { } group ? $"group:{group.Id}" : database.Value)}:take-over";

    /// <summary>Its steps: all are looked at, then all kept out, then one instant is agreed at which all stop, before the first takes over.</summary>
    public static Run Plan(IReadOnlyList<(Member Member, Promoting Promoting)> members)
    {
        var steps = new List<Step>();
        var approval = members.Any(m => m.Promoting.NeedsApproval);
        var lost = members.Max(m => m.Member.LostSeconds);
        void Each(Func<Member, Promoting, Step?> step)
        {
            for (var i = 0; i < members.Count; i++)
            {
                if (step(members[i].Member, members[i].Promoting) is { } made)
                {
                    steps.Add(made.Work == "{}" ? made with { Work = RunJson.Write(new AboutMember(i)) } : made);
                }
            }
        }

        Each((m, _) => Next(steps, "look", $"Look how far {m.Replica} is, from both sides", m.Replica, 1, undo: Undo.Nothing));
        Each((m, _) => Next(steps, "fence", $"Keep the old side {(members.Count == 1 ? "" : $"of {m.Database} ")}on {m.From} out{(m.LostSeconds > 0 ? $": up to {PlainDuration.Of(m.LostSeconds)} may be lost when {m.Replica} takes over" : "")}", m.From, 2, undo: Undo.Own));
        if (approval)
        {
            // Asked before anything stops: while a second person is looked for, people go on working.
            var first = steps.FindIndex(s => s.Kind == "fence");
            steps[first] = steps[first] with
            {
                Title = steps[first].Title + (members.Count > 1 && lost > members[0].Member.LostSeconds ? $"; of the others up to {PlainDuration.Of(lost)}" : ""),
                NeedsApproval = true,
                DecideWithinSeconds = Step.ApprovalSeconds,
                Owner = Roles.Approve,
            };
        }

        if (members.Count > 1)
        {
            steps.Add(Next(steps, "agree", $"Agree on one instant at which all {members.Count} stop, so that they fit each other", members[0].Member.Replica, 1, undo: Undo.Nothing));
        }

        Each((m, p) => Next(steps, "promote", $"{m.Replica} takes over on {m.Host}", m.Host, p.Way?.Seconds, undo: Undo.Nothing) with { NoWayBack = true });
        Each((m, _) => Next(steps, "name", $"Name the new branch and the new host {(members.Count == 1 ? "" : $"of {m.Database} ")}in the fleet; the other replicas follow or are named", m.Host, 1, undo: Undo.Nothing));
        Each((m, p) => p.FirstBase is { } task
            ? BaseStep(steps, "the first", members.Count == 1 ? " of the new branch" : $" of the new branch of {m.Database}", task, new(m.Database))
            : null);
        return Run.Of(new RunPlan(steps));
    }

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (asked, driver) = (run.Question<Question>(), Driver(run));
        if (step.Kind == "base")
        {
            var of = RunJson.Read<TakeSpec>(step.Work).Database;
            return await TakeBaseAsync(run, run.Call.Part(asked.Members.ToList().FindIndex(m => m.Database == of)), step, cancel);
        }

        if (step.Kind == "agree")
        {
            return await AgreeAsync(run, asked, driver, cancel);
        }

        var index = RunJson.Read<AboutMember>(step.Work).Member;
        var (m, call) = (asked.Members[index], run.Call.Part(index));
        switch (step.Kind)
        {
            case "look":
                var look = await driver.LookAsync(call, new(m.Replica), cancel);
                return new StepResult(
                    $"it has everything committed up to {Instants.Write(look.ReceivedTo)}, {PlainDuration.Of((look.At - look.ReceivedTo).TotalSeconds)} ago",
                    RestoreAside.Write(new RestoreAside.Measured(0, 0, Instants.Write(look.ReceivedTo), look.Position)));
            case "fence":
                return new StepResult(await driver.FenceAsync(call, new(m.Database), cancel));
            case "promote":
                var p = await driver.PromoteAsync(call, new(m.Replica), new(m.Host), AgreedIn(run), cancel);
                return new StepResult(
                    $"branch {p.Branch.Id} begins at position {p.Branch.ForkPosition}; lost: {(p.LostTransactions is 0 || p.LostSeconds == 0 ? "nothing" : $"{p.LostTransactions} commits over {PlainDuration.Of(p.LostSeconds)}")}",
                    RunJson.Write(Promoted.Of(p)));
            default:
                return await NamePromotedAsync(run, changes, m.Database, m.Replica, m.From, PromotedIn(run, index)!, $"{m.Replica} has taken over", cancel);
        }
    }

    /// <summary>The last instant that all of them have received. Nothing is written once all are kept out: one that has received up to then has all there is.</summary>
    private async Task<StepResult> AgreeAsync(RunContext run, Question asked, IReplicateDriver driver, CancellationToken cancel)
    {
        var looks = new List<(Member Member, ReplicaLook Look)>();
        for (var i = 0; i < asked.Members.Count; i++)
        {
            looks.Add((asked.Members[i], await driver.LookAsync(run.Call.Part(i), new(asked.Members[i].Replica), cancel)));
        }

        var last = looks.Min(l => l.Look.ReceivedTo);
        var keptOut = run.Run.Plan.Steps.Where(s => s.Kind == "fence").Max(s => run.Run[s.Number].EndedAt);
        if (last < keptOut && looks.FirstOrDefault(l => l.Look.AppliedTo - Duration.FromSeconds(Known(new(l.Member.Replica)).RewindSeconds) > last) is { Member: { } ahead } far)
        {
            var behind = looks.MinBy(l => l.Look.ReceivedTo);
            return new StepResult(
                $"there is no instant at which all can stop: {ahead.Replica} has applied everything up to {Instants.Write(far.Look.AppliedTo)}, {behind.Member.Replica} has received up to {Instants.Write(last)} alone; have them take over one by one, and they will be that far apart",
                Failed: true);
        }

        return new StepResult($"all stop at {Instants.Write(last)}", RestoreAside.Write(new RestoreAside.Measured(0, 0, Instants.Write(last))));
    }

    private static Instant? AgreedIn(RunContext run) =>
        run.Run.Plan.Steps.Where(s => s.Kind == "agree").Select(s => run.Run[s.Number].Measured).FirstOrDefault(m => m is not null) is { } measured ? Instants.Parse(RunJson.Read<RestoreAside.Measured>(measured).Reached!) : null;

    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel)
    {
        var index = RunJson.Read<AboutMember>(step.Work).Member;
        return Driver(run).LetInAsync(run.Call.Part(index), new(run.Question<Question>().Members[index].Database), cancel);
    }

    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (concluded, asked) = (base.Conclude(run, end, now), run.Question<Question>());
        var promoted = asked.Members.Select((m, i) => (Member: m, Result: PromotedIn(run, i)!)).Where(p => p.Result is not null && Fleet.Has(p.Member.Database)).ToArray();
        if (promoted.Length == 0)
        {
            return concluded;
        }

        string[] left = [.. promoted.SelectMany(p => p.Result.Left)];
        string[] not = [.. asked.Members.Select(m => m.Replica).Except(promoted.Select(p => p.Member.Replica))];
        var note = $"{concluded.Note}{(not.Length > 0 ? $"; not promoted: {string.Join(", ", not)}" : "")}{(left.Length > 0 ? $"; do not follow: {string.Join("; ", left)}" : "")}";

        // Taking over is a proof of taking over: what was lost and how long it took, measured.
        return concluded with
        {
            Note = note,
            LedgerBody = Body(run, end.State, note, promoted.Select(p => new Result(p.Member.Replica, p.Result.Branch, p.Result.Position ?? 0, p.Result.Reached!, p.Result.StartsAt, p.Result.Host, p.Result.LostSeconds, p.Result.LostTransactions, p.Result.Left))),
            Proofs = [.. promoted.Select(p => ProofOf(run, p.Member, p.Result, end.State == RunState.Done, now))],
        };
    }

    private ProofRow ProofOf(RunContext run, Member member, Promoted promoted, bool passed, Instant now)
    {
        var d = Fleet[member.Database].Subject.Database;

        // From the first look to the end of the last promotion: those of a group are back together.
        var steps = run.Run.Plan.Steps.Where(s => s.Kind is "look" or "fence" or "agree" or "promote").Sum(s => run.Run[s.Number] is { StartedAt: { } a, EndedAt: { } b } ? (b - a).TotalSeconds : 0);
        var proof = new Proof(now, promoted.LostTransactions == 0 ? 0 : promoted.LostSeconds, d.DetectSeconds + d.DecideSeconds + steps + d.RedirectSeconds, passed, d.SizeBytes, d.Version, LossKind.Host, TookOver: true);
        return ProofRow.Of(d.Id, proof, Loss.OfKind(LossKind.Host), new(promoted.Host), run.Row.Id);
    }

    protected override string Done(RunContext run)
    {
        var asked = run.Question<Question>();
        return asked.Members.Count == 1
            ? PromotedIn(run, 0) is { } p ? $"{asked.Replica} has taken over on {p.Host}; branch {p.Branch} is the live one" : ""
            : $"{string.Join(", ", asked.Members.Select(m => m.Replica))} have taken over together, all at {(AgreedIn(run) is { } at ? Instants.Write(at) : "one instant")}";
    }

    private static Promoted? PromotedIn(RunContext run, int member) =>
        run.Run.Plan.Steps.Where(s => s.Kind == "promote" && RunJson.Read<AboutMember>(s.Work).Member == member).Select(s => run.Run[s.Number].Measured).FirstOrDefault(m => m is not null) is { } measured ? RunJson.Read<Promoted>(measured) : null;

    /// <summary>What a take over changes in the fleet: the branch that began and the host it runs on, unless that is named already; the replica is one no more, and who it fed is fed by the primary.</summary>
    public static IReadOnlyList<FleetParts.Change> Named(FleetChanges changes, FleetModel fleet, string id, Branch branch, string host, string from, string replica)
    {
        return LivesOn(changes, id, branch, host, from) is not { } lives
            ? []
            : [.. RemoveReplica.RemoveReplicaKind.Refed(changes, fleet, new(replica), null), RemoveReplica.RemoveReplicaKind.Ended(changes, replica, branch.StartsAt), lives];
    }

    /// <summary>What changes in the fleet where a database lives on another host, on a branch that began there; null where that is named already.</summary>
    public static FleetParts.Change? LivesOn(FleetChanges changes, string id, Branch branch, string host, string from)
    {
        var database = changes.Find("databases", id)!;
        if (database["host"]?.ToString() == host)
        {
            return null;
        }

        // The branch may have been named before; the host is ours to name.
        FleetChanges.Name(database, branch with { LeftHost = new(from) });
        database["host"] = host;
        if (database["recoveryHosts"] is JsonArray hosts)
        {
            // It runs there now; the host it ran on is one it may come back to.
            database["recoveryHosts"] = new JsonArray([.. hosts.Select(h => h!.ToString()).Where(h => h != host).Append(from).Distinct().Select(h => (JsonNode)h)]);
        }

        return FleetParts.Put("databases", id, database);
    }
}
