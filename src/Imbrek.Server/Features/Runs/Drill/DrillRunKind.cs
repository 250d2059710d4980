using System.Text.Json.Nodes;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs.JointDrill;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Drill;

/// <summary>A drill in which roles change (<see cref="RoleChange"/>): switchover, forced or automatic failover, and home again when asked; what changes in the fleet is kept step by step.</summary>
internal sealed class DrillRunKind(Drivers drivers, FleetState fleet, ReplicaBook book, LagIntake lag, FleetChanges changes, RunStore store, IGuest guest, IClock clock) : ReplicaKind(drivers, fleet, book, clock), IRunKind
{
    public const string KindName = "drill";

    /// <summary>Within this time each drill of many has heard that all go on, and can stop with the others, seconds; and within so many seconds of the machine.</summary>
    private const double HeardWithin = 10, HeardWithinOfMachine = 1.5;

    public override IReadOnlyList<string> Names { get; } = [KindName];

    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var asked = run.Question<DrillQuestion>();
        if (step.Kind == "base")
        {
            return await TakeBaseAsync(run, run.Call.Part(7), step, cancel);
        }

        var phase = RoleChange.PhaseOf(step);
        var (from, _, replica) = asked.In(phase);
        return step.Kind switch
        {
            "name" => await NamePromotedAsync(run, changes, run.Row.Database, replica, from, DrillResult.PromotedIn(run.Run, phase)!, $"drill: {replica} has become the primary", cancel),
            "agree" => await AgreeAsync(run, cancel),
            "follow" => await FollowAsync(run, step.Subject!, from, phase, asked, cancel),
            _ => await ChangeOf(run, asked, step.Kind == "stop" ? await StopsAtAsync(run, phase, cancel) : null).DoAsync(step, cancel) ?? await DoSharedAsync(run, step, from, progress, cancel) ?? throw new InvalidOperationException(step.Kind),
        };
    }

    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) => ChangeOf(run, run.Question<DrillQuestion>()).UndoAsync(step, cancel);

    public override Conclusion Conclude(RunContext run, Ending end, Instant now) =>
        Concluded(run, run.Question<DrillQuestion>(), end, Fleet.Has(run.Row.Database) ? Fleet[run.Row.Database].Subject.Database : null, Fleet.Fleet, now);

    /// <summary>What is kept when a drill ends.</summary>
    /// <param name="run">The run.</param>
    /// <param name="asked">What was asked.</param>
    /// <param name="end">How it ended.</param>
    /// <param name="database">The database; null when it is no longer there.</param>
    /// <param name="fleet">The fleet as it is now.</param>
    /// <param name="now">When it ended.</param>
    public static Conclusion Concluded(RunContext run, DrillQuestion asked, Ending end, Core.Fleet.Database? database, FleetModel fleet, Instant now)
    {
        var result = DrillResult.Of(run.Run, asked);
        var note = NoteOf(run, end, result.InWords());
        var proofs = end.State == RunState.Done && database is not null && result.Proves(asked, database, fleet, now) is var (proof, loss) ? new[] { ProofRow.Of(database.Id, proof, loss, new(asked.To), run.Row.Id) } : null;
        var measured = new { kind = asked.Kind, ending = asked.Ending, loss = asked.Loss, from = asked.From, to = asked.To, inSpite = asked.InSpite, planned = new { lostSeconds = asked.PlannedLostSeconds, serviceSeconds = asked.PlannedServiceSeconds }, measured = result with { Seen = [] } };
        return new Conclusion(end.State, note, LedgerBody: Body(run, end.State, note, measured), Proofs: proofs);
    }

    /// <summary>What it has measured so far; null before roles change.</summary>
    public string? Measured(RunContext run) => MeasuredBy(run.Run, run.Question<DrillQuestion>());

    /// <summary>What a drill has measured so far, as it is kept; null before roles change.</summary>
    public static string? MeasuredBy(Run run, DrillQuestion asked) => DrillResult.Of(run, asked) is { Changes.Count: > 0 } result ? RunJson.Write(result) : null;

    private RoleChange ChangeOf(RunContext run, DrillQuestion asked, Instant? stopsAt = null) => new(
        asked,
        new(run.Row.Database),
        run.Run,
        run.Call,
        Drivers.Named(run.Row.Driver!).Drill ?? throw new DriverException(DriverProblem.Refused, $"the drivers named {run.Row.Driver} change no roles"),
        Driver(run),
        Fleet.Fleet,
        Clock,
        stopsAt);

    /// <summary>When all of a drill of many stop: so long after that was decided that each has heard of it. Null for a drill by itself.</summary>
    private async Task<Instant?> StopsAtAsync(RunContext run, int phase, CancellationToken cancel)
    {
        if (run.Row.AfterId is not { } id || !(await store.FindAsync([id], cancel)).TryGetValue(id, out var parent) || parent.Row.Kind != JointDrillKind.KindName)
        {
            return null;
        }

        var all = parent.Row.ToRun();
        return all.Plan.Steps.Where(s => s.Kind == (phase == 0 ? "go" : "back")).Select(s => all[s.Number].StartedAt).FirstOrDefault() + Duration.FromSeconds(Math.Max(HeardWithin, HeardWithinOfMachine * guest.Pace));
    }

    /// <summary>
    /// The last instant that all of its group have received, of those that take part: each has kept how far it had, and all come to the same. Where one has applied more and cannot go back, none goes on.
    /// </summary>
    private async Task<StepResult> AgreeAsync(RunContext run, CancellationToken cancel)
    {
        var parent = (await store.FindAsync([run.Row.AfterId!.Value], cancel))[run.Row.AfterId!.Value].Row;
        var asked = RunJson.Read<JointDrillKind.Question>(parent.Question!);
        var group = Fleet.Fleet.GroupOf(new(run.Row.Database));
        var others = asked.Members.Select((m, i) => (m.Database, m.Replica, Id: RunsOfMany.IdOf(parent.Id, i))).Where(m => m.Replica is not null && Fleet.Fleet.GroupOf(new(m.Database)) == group).ToArray();
        var rows = await store.FindAsync([.. others.Select(o => o.Id)], cancel);
        var looks = new List<(string Database, double RewindSeconds, Instant Received, Instant Applied)>();
        foreach (var (database, replica, id) in others)
        {
            var row = rows.TryGetValue(id, out var found) ? found.Row : null;
            var its = id == run.Row.Id ? run.Run : row?.ToRun();
            if (its is null || DrillResult.ReceivedIn(its) is not { } look)
            {
                return its is null || row?.StateIs.IsOver() == true || its.GoesBack
                    ? new StepResult($"{database} did not get so far: there is no instant at which all stop", Failed: true)
                    : new StepResult($"waits for {database}", LookAgainAfter: Duration.FromSeconds(1));
            }

            looks.Add((database, Fleet.Fleet.Replicas.TryGetValue(new(replica!), out var r) ? r.RewindSeconds : double.PositiveInfinity, Instants.Parse(look.Reached), Instants.Parse(look.AppliedTo)));
        }

        var last = looks.Min(l => l.Received);
        return looks.FirstOrDefault(l => double.IsFinite(l.RewindSeconds) && l.Applied - Duration.FromSeconds(l.RewindSeconds) > last) is { Database: { } ahead } far
            ? new StepResult($"there is no instant at which all can stop: {ahead} has applied everything up to {Instants.Write(far.Applied)}, {looks.MinBy(l => l.Received).Database} has received up to {Instants.Write(last)} alone", Failed: true)
            : new StepResult($"all stop at {Instants.Write(last)}", RestoreAside.Write(new RestoreAside.Measured(0, 0, Instants.Write(last))));
    }

    /// <summary>
    /// The host that is left becomes a replica of the new primary, like the one that took over; one that had its name before is one again. Where writes were stopped and all was received it holds, from the instant
    /// the new primary opened, all that was committed until then.
    /// </summary>
    private async Task<StepResult> FollowAsync(RunContext run, string id, string host, int phase, DrillQuestion asked, CancellationToken cancel)
    {
        var part = JsonNode.Parse(asked.Part)!.AsObject();
        foreach (var member in (string[])["from", "since", "until"])
        {
            part.Remove(member);
        }

        (part["id"], part["host"]) = (id, host);
        var named = await NameReplicaAsync(run, new(id), part, [], changes, cancel);
        if (!asked.TakesForLost(phase) && DrillResult.PromotedIn(run.Run, phase) is { LostTransactions: null or 0, LostSeconds: 0 } p && asked.Kind != DrillKind.Automatic)
        {
            var opened = p.ToBranch().StartsAt;
            await lag.BeganAsync(new(new(id), p.Branch, opened, opened, opened, 0, p.Position, InStep: false), cancel);
        }

        return named;
    }
}
