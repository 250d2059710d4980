using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>The runbook of a change of roles (section 11): its steps, made before anything is touched.</summary>
public sealed class DrillRunbook
{
    /// <summary>What is chosen to say that something was done by hand.</summary>
    public const string Told = "told", Send = "send-clients", GoHome = "go-home", Stay = "stay";

    /// <summary>The role of who confirms steps by hand.</summary>
    public const string Hands = "operate";

    /// <summary>The role of who agrees that something may be lost.</summary>
    public const string SecondPerson = "approve";

    private const double LimitFactor = 20, ShortestLimitSeconds = 3600, HandSeconds = 2;

    private readonly List<Step> steps = [];
    private readonly RecoverySubject subject;
    private readonly Ask ask;
    private readonly Func<string, double?> learned;
    private Step.Guard? only;

    /// <summary>What the next step waits for.</summary>
    private int[] after = [];

    private DrillRunbook(RecoverySubject subject, Ask ask, Func<string, double?> learned) => (this.subject, this.ask, this.learned) = (subject, ask, learned);

    /// <summary>What is asked for.</summary>
    /// <param name="Kind">Switchover, forced or automatic.</param>
    /// <param name="Ending">How it ends.</param>
    /// <param name="Replica">The replica that becomes the primary.</param>
    /// <param name="To">The host it runs on then.</param>
    /// <param name="Follower">What the old side is called when it follows.</param>
    /// <param name="Planned">What it comes to.</param>
    /// <param name="ByHand">Whether people confirm that everybody was told, and that clients may be sent over.</param>
    /// <param name="Overridden">What failed before and is gone on in spite of, with why; null when nothing did.</param>
    /// <param name="FirstBase">The task that takes the first base of the new branch; null when no plan does.</param>
    /// <param name="Joint">Whether it is one of a drill of many: all are waited for before writes stop, also where the source is taken for lost.</param>
    /// <param name="Together">Whether those of its group that take part stop at one instant, where the source is taken for lost: what they hold belongs together.</param>
    public sealed record Ask(DrillKind Kind, DrillEnding Ending, Replica Replica, Id<Host> To, string Follower, PlannedDrill Planned, bool ByHand, PlanTask? FirstBase, string? Overridden = null, bool Joint = false, bool Together = false);

    /// <summary>The steps.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="ask">What is asked for.</param>
    /// <param name="learned">Seconds that a kind of step took in finished drills; null where none did.</param>
    /// <exception cref="ArgumentException">It is refused, or of a kind in which no roles change.</exception>
    public static RunPlan Of(RecoverySubject subject, Ask ask, Func<string, double?>? learned = null)
    {
        if (ask.Planned.Refused.Count > 0 || ask.Kind is not (DrillKind.Switchover or DrillKind.Forced or DrillKind.Automatic))
        {
            throw new ArgumentException(ask.Planned.Refused.Count > 0 ? ask.Planned.Refused[0] : $"{ask.Kind} is not a change of roles to a replica", nameof(ask));
        }

        return new DrillRunbook(subject, ask, learned ?? (_ => null)).Make();
    }

    /// <summary>The phase a step is of: 0 for the way there, 1 for the way home.</summary>
    public static string InPhase(int phase) => $$"""{"phase":{{phase}}}""";

    /// <summary>What the host a database runs on is called when it is a replica of it: the name it had before, or one that nobody has.</summary>
    public static string FollowerOf(FleetModel fleet, Database d, Instant now)
    {
        var name = $"{d.Id}-{d.Host}";
        for (var n = 2; fleet.Replicas.TryGetValue(new(name), out var there) && !(there.Until <= now && there.Database == d.Id); n++)
        {
            name = $"{d.Id}-{d.Host}-{n}";
        }

        return name;
    }

    private RunPlan Make()
    {
        var (d, from) = (subject.Database, subject.Database.Host);
        Add("precheck", $"Try what it needs, from both sides{(ask.Overridden is { } overridden ? $"; gone on in spite of {overridden}" : "")}", ask.Replica.Id.Value, 3, approval: ask.Overridden is not null);
        Add("markers", "Begin to write a marker a second, and to look on at both sides", d.Id.Value, 60, undo: Undo.Own);
        var changed = ask.Kind == DrillKind.Automatic ? ByItself(from) : ChangeRoles(0, ask.Kind == DrillKind.Forced, from, ask.To, ask.Replica.Id.Value);
        if (ask.Ending != DrillEnding.Part)
        {
            Follow(0, ask.Follower, from, changed);
        }

        if (ask.Ending == DrillEnding.Home)
        {
            if (ask.ByHand)
            {
                Hold("home", "Go home, or stay", [GoHome, Stay]);
                only = new(steps[^1].Number, GoHome);
            }

            changed = ChangeRoles(1, false, ask.To, from, ask.Follower);
            Follow(1, ask.Replica.Id.Value, ask.To, changed);
            only = null;
        }

        if (ask.FirstBase is { } task)
        {
            Add("base", $"Take the first {task.Kind.Makes()!.Value.ToString().ToLowerInvariant()} of the new branch into {task.Store}", task.Store!.Value.Value, null, limit: 86_400);
        }

        Add("end", "End the markers; what was seen is kept", d.Id.Value, 1);
        return new RunPlan(steps);
    }

    /// <summary>The engine is stopped, and all that follows is waited for.</summary>
    /// <returns>The step after which the roles are others.</returns>
    private int ByItself(Id<Host> from)
    {
        var (d, planned) = (subject.Database, ask.Planned);
        if (ask.ByHand)
        {
            Hold("tell", $"Everybody who must know has been told: the engine on {from} is stopped, and nobody can write for about {PlainDuration.Of(planned.WriteStopSeconds!.Value)}", [Told]);
        }

        Add("stop", $"Stop the engine on {from}, and help nobody", from.Value, HandSeconds, noWayBack: true);
        Add("promote", $"{ask.Replica.Id} takes over by itself on {ask.To}", ask.To.Value, Math.Max(0, planned.ServiceSeconds!.Value - d.RedirectSeconds));
        var changed = steps.Count;
        Add("back", "Clients are back: a write through the usual address succeeds", d.Id.Value, d.RedirectSeconds);
        Add("check", "Check it: markers, integrity, one writable side only", ask.To.Value, d.CheckSeconds);
        return changed;
    }

    /// <returns>The step after which the roles are others.</returns>
    private int ChangeRoles(int phase, bool lost, Id<Host> from, Id<Host> to, string replica)
    {
        var (d, planned) = (subject.Database, ask.Planned);
        var first = phase == 0;
        var rest = ask.Replica.PromoteSeconds + d.CheckSeconds + d.RedirectSeconds;
        var catchUp = first ? Math.Max(0, planned.WriteStopSeconds!.Value - rest) : 0;
        if (ask.ByHand && (!lost || ask.Joint))
        {
            Hold("tell", $"Everybody who must know has been told: nobody can write for about {PlainDuration.Of(first ? planned.WriteStopSeconds!.Value : rest)}", [Told]);
        }

        Add(
            "stop",
            lost ? $"Take {from} for lost{(planned.LostSeconds > 0 ? $": up to {PlainDuration.Of(planned.LostSeconds.Value)}{(planned.LostBytes is { } b ? $", {b / 1e6:0.#} MB of log," : "")} may be lost" : "")}" : $"Stop writes on {from}{(ask.Joint ? ", at one instant with all the others" : "")}",
            from.Value,
            HandSeconds,
            phase,
            undo: first ? Undo.Own : Undo.Nothing,
            approval: lost && planned.Approval == true);
        if (!lost)
        {
            Add("caught", $"Wait until {replica} has received and applied all", replica, catchUp, phase, limit: Math.Max(ShortestLimitSeconds, LimitFactor * catchUp));
        }

        if (lost && ask.Together)
        {
            Add("received", $"See how far {replica} has received", replica, 1, phase);
            Add("agree", "Agree with the others of its group on the instant at which all stop", d.Id.Value, 5, phase);
        }

        Add("out", $"Make sure that {from} takes no writes", from.Value, 1, phase);
        Add("promote", $"{replica} becomes the primary on {to}", to.Value, ask.Replica.PromoteSeconds, phase, noWayBack: true);
        Add("name", "Name the new branch and the new host in the fleet; the other replicas follow or are named", to.Value, 1, phase);
        var changed = steps.Count;
        Add("check", "Check it: markers, integrity, one writable side only", to.Value, d.CheckSeconds, phase);
        if (ask.ByHand)
        {
            Hold("send", $"What is open on {to} looks right: send clients over", [Send]);
        }

        Add("clients", $"Send clients to {to}", to.Value, Math.Min(HandSeconds, d.RedirectSeconds), phase);
        Add("back", "Clients are back: a write through the usual address succeeds", d.Id.Value, Math.Max(0, d.RedirectSeconds - HandSeconds), phase);
        return changed;
    }

    /// <summary>The side that is left follows as soon as the roles are others, beside what is done for clients: until it does, nothing but sets stands between the new primary and a loss.</summary>
    private void Follow(int phase, string follower, Id<Host> host, int changed)
    {
        var clients = after;
        after = [changed];
        Add("follow", $"Name {host} as a replica of the new primary", follower, 1, phase);
        Add("copy", "Bring it to where the new primary is: what it holds beyond is taken back, and what it lacks is moved", follower, 5, phase, limit: 86_400);
        Add("catch-up", "Catch up with what was written meanwhile", follower, 2, phase, limit: 7 * 86_400);
        Add("prove", "Prove it: a marker written there is read here, both hold the same, a write here is refused", follower, 60, phase, limit: 8 * 3600);
        Add("watch", "Seen by its watcher, in step", follower, 2 * ask.Replica.WatchSeconds, phase);
        after = [.. clients, .. after];
    }

    private void Hold(string kind, string title, string[] choices) => Add(new Step
    {
        Number = steps.Count + 1,
        Kind = kind,
        Title = title,
        After = after,
        Only = only,
        Choices = choices,
        Owner = Hands,
    });

    private void Add(string kind, string title, string about, double? seconds, int phase = 0, Undo undo = Undo.Nothing, bool approval = false, bool noWayBack = false, double limit = ShortestLimitSeconds)
    {
        var known = learned(kind);
        Add(new Step
        {
            Number = steps.Count + 1,
            Kind = kind,
            Title = title,
            Subject = about,
            After = after,
            Only = only,
            ExpectedSeconds = known ?? seconds,
            ExpectedFrom = known is not null ? "learned" : seconds is null ? null : "profile",
            NeedsApproval = approval,
            DecideWithinSeconds = approval ? Step.ApprovalSeconds : null,
            Owner = approval ? SecondPerson : Step.Product,
            Undo = undo,
            NoWayBack = noWayBack,
            Attempts = 5,
            BackOffSeconds = 2,
            TimeLimitSeconds = Math.Max(limit, LimitFactor * (known ?? seconds ?? 0)),
            Work = InPhase(phase),
        });
    }

    private void Add(Step step)
    {
        steps.Add(step);
        after = [step.Number];
    }
}
