using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.StandIn.Drills;

/// <summary>A drill of history: carried out in the world by the runbook and the steps of the product, with people who answer after a while.</summary>
internal sealed class PastDrill : IClock
{
    /// <summary>Who begins it and confirms its steps, and who agrees to what may be lost.</summary>
    public const string Hands = "operate", SecondPerson = "approve";

    private readonly World world;
    private readonly ScriptedDrill script;
    private readonly Id<Database> database;
    private readonly Replica replica;
    private readonly RunCall call;

    private PastDrill(World world, ScriptedDrill script)
    {
        (this.world, this.script, replica) = (world, script, world.Fleet.Replicas[script.Replica]);
        database = replica.Database;

        // The same script holds the same drill.
        Span<byte> id = stackalloc byte[16];
        BitConverter.TryWriteBytes(id, Draw.Of(world.Seed, $"drill {script.Replica}"));
        BitConverter.TryWriteBytes(id[8..], Draw.Of(world.Seed, $"drill {script.At.ToUnixTimeMilliseconds()}"));
        call = new RunCall(new Guid(id), 1);
    }

    /// <summary>Holds a drill, and tells the world's listeners what came of it.</summary>
    public static async Task HoldAsync(World world, ScriptedDrill script)
    {
        if (!world.Fleet.Replicas.TryGetValue(script.Replica, out var replica) || !world.Has(replica.Database))
        {
            return;
        }

        try
        {
            await new PastDrill(world, script).HoldAsync();
        }
        catch (DriverException e)
        {
            world.Tell(replica.Database, "drill", e.Message);
        }
    }

    /// <inheritdoc/>
    public Instant GetCurrentInstant() => world.Now;

    private async Task HoldAsync()
    {
        var subject = RecoverySubject.Of(world.Fleet, world[database].Database, new DatabaseCatalogue(database, world[database].Sets.Values))
            .With(world.Replicas.History.Where(s => world.Fleet.Replicas.TryGetValue(s.Replica, out var r) && r.Database == database));
        var (source, d) = (subject.Replicas.First(r => r.Replica.Id == replica.Id), subject.Database);
        var loss = script.Loss is { } text ? Loss.Kept(text, world.Fleet) : Loss.Of(d.Host);
        var planned = script.Kind == DrillKind.Switchover ? PlannedDrill.Switchover(subject, source, world.Now) : PlannedDrill.Forced(subject, source, world.Now, loss);
        if (planned.Refused.Count > 0)
        {
            throw new DriverException(DriverProblem.Refused, string.Join("; ", planned.Refused));
        }

        var (to, follower, firstBase) = (replica.Place.Hosts[0], DrillRunbook.FollowerOf(world.Fleet, d, world.Now), Promoting.FirstBaseOf(world.Fleet, d));
        var steps = DrillRunbook.Of(subject, new(script.Kind, script.Ending, replica, to, follower, planned, ByHand: true, firstBase));
        var asked = new DrillQuestion(
            replica.Id.Value, script.Kind, script.Ending, loss.ToString(), d.Host.Value, to.Value, follower, "{}", planned.LostSeconds ?? 0, planned.ServiceSeconds ?? 0, subject.Objective?.RpoSeconds, subject.Objective?.RtoSeconds);
        var run = Run.Of(steps);
        while (true)
        {
            run = run.Ask(world.Now);
            var next = run.Next(world.Now);
            if (next.End is { } end)
            {
                world.Changed(new WorldChange.Drilled(world.Now, database, call.Run, asked, run.Close(world.Now), end, world.Fleet));
                return;
            }

            if (next.Undo is [var back, ..])
            {
                await ChangeOf(asked, run).UndoAsync(run.Plan[back], default);
                run = run.Undid(back, world.Now);
            }
            else if (next.Start.Count > 0)
            {
                // Of what may go side by side the shortest first.
                var begins = next.Start.MinBy(n => run.Plan[n].ExpectedSeconds ?? 0);
                run = run.Begin(begins, world.Now);
                run = run.Plan[begins].IsHold ? run : await DoAsync(asked, run, run.Plan[begins], firstBase);
            }
            else if (next.Ask is [var asks, ..])
            {
                await world.After(script.PeopleSeconds, default);
                run = Decide(run, run.Plan[asks]);
            }
            else
            {
                await world.After(Math.Max(0, (next.Wake!.Value - world.Now).TotalSeconds), default);
            }
        }
    }

    private Run Decide(Run run, Step step) => script.CalledOff && step.IsHold
        ? run.Hear([], Hands)
        : run.Hear([new Decision(step.Number, run[step.Number].Round, step.IsHold ? step.Choices[0] : Step.Approve, step.IsHold ? Hands : SecondPerson, world.Now)], null);

    private async Task<Run> DoAsync(DrillQuestion asked, Run run, Step step, Core.Planning.PlanTask? firstBase)
    {
        try
        {
            var result = step.Kind switch
            {
                "name" => Name(asked.In(RoleChange.PhaseOf(step)).Replica, DrillResult.PromotedIn(run, RoleChange.PhaseOf(step))!),
                "follow" => Follow(new(step.Subject!), new(asked.In(RoleChange.PhaseOf(step)).From)),
                "watch" => new StepResult($"seen, up to {Core.Formats.Instants.Write(world.Replicas.Reached(new(step.Subject!)).Received)}"),
                "base" => await TakeBaseAsync(firstBase!),
                _ => await ChangeOf(asked, run).DoAsync(step, default) ?? throw new InvalidOperationException(step.Kind),
            };
            return result.LookAgainAfter is { } pause ? run.LookAgain(step.Number, world.Now, world.Now + pause, result.Note)
                : result.Failed ? run.Fail(step.Number, world.Now, result.Note ?? "", canRetry: false)
                : run.Finish(step.Number, world.Now, result.Note, result.Measured);
        }
        catch (DriverException e)
        {
            return run.Fail(step.Number, world.Now, e.Message, e.AgainMayHelp);
        }
    }

    private RoleChange ChangeOf(DrillQuestion asked, Run run) => new(asked, database, run, call, new StandInDrillDriver(world), new StandInReplicateDriver(world), world.Fleet, this);

    /// <summary>The world has the new branch and host already.</summary>
    private StepResult Name(string promoted, Promoted p)
    {
        world.Replicas.Ended(new(promoted));
        world.Rules?.Load(world.Fleet);
        world.Changed(new WorldChange.FleetChanged(world.Now, database, world.Fleet, $"drill: {promoted} has become the primary"));
        return new StepResult(p.Left.Count == 0 ? "all other replicas follow" : $"do not follow: {string.Join("; ", p.Left)}");
    }

    private StepResult Follow(Id<Replica> id, Id<Host> host)
    {
        world.Replicas.Set(world.Fleet.With(replicas: world.Fleet.ReplicaList.Append(replica with { Id = id, Place = new ReplicaPlace.OnHost(host), From = null })));
        world.Changed(new WorldChange.FleetChanged(world.Now, database, world.Fleet, "a replica is set up"));
        return new StepResult();
    }

    private async Task<StepResult> TakeBaseAsync(Core.Planning.PlanTask task)
    {
        var taken = await new StandInBackupDriver(world).TakeAsync(call.Part(7), TakeSpec.Of(task, database), default);
        return new StepResult(taken.Nothing ?? taken.Note ?? taken.Set?.Id.Value, RestoreAside.Write(new RestoreAside.Measured(taken.Seconds, taken.Bytes)));
    }
}
