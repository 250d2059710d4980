using System.Text.Json.Nodes;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Drills;

/// <summary>A drill that is asked for.</summary>
/// <param name="Replica">The replica that becomes the primary.</param>
/// <param name="Kind">switchover, forced or automatic.</param>
/// <param name="Ending">keep, home or part.</param>
/// <param name="Host">Of a replica on an array: the host it is opened on; null for the first.</param>
/// <param name="Loss">Of a forced one, what is lost: host, array or site; the primary's host when left out.</param>
/// <param name="ByHand">Whether people confirm steps; yes when left out.</param>
/// <param name="InSpite">Why it is begun in spite of what failed before; a second person must agree then. Null to stop there.</param>
/// <param name="Dated">The drill with a date that it holds; null for none.</param>
public sealed record DrillRequest(string Replica, string Kind, string? Ending, string? Host, string? Loss, bool? ByHand, string? InSpite = null, Guid? Dated = null);

/// <summary>Reads what drill is asked for, and plans it from what is known of the database now: for who looks at it before, for who begins it, and for a drill of many.</summary>
internal sealed class DrillPlanning(FleetState fleet, ImbrekContext data, ReplicaActions.Acting acting, FleetChanges changes, IGuest guest, IClock clock)
{
    private const int LongestWhy = 500;

    /// <summary>Of how many finished drills of a database the seconds of steps are learned.</summary>
    private const int LearnsFrom = 20;

    /// <summary>What nobody may go on in spite of.</summary>
    public static readonly string[] Final = ["can be done", "nobody else"];

    /// <summary>Steps whose seconds depend on what was written meanwhile, on others, or on people.</summary>
    private static readonly string[] NotLearned = ["stop", "agree", "caught", "copy", "catch-up", "tell", "send", "home"];

    /// <summary>A drill that was read, with all that is known of it.</summary>
    public sealed record Drill(RecoverySubject Subject, ReplicaSource Source, DrillKind Kind, DrillEnding Ending, Loss Loss, Id<Core.Fleet.Host> To, string Follower, PlannedDrill Planned, Core.Drills.DrillRunbook.Ask? Ask, Func<string, double?> Learned, RunPlan? Steps)
    {
        public Core.Fleet.Database Database => Subject.Database;
    }

    /// <summary>Reads a drill.</summary>
    /// <param name="request">What is asked for.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <param name="joint">Whether it is one of a drill of many, which goes on with all of them together.</param>
    /// <exception cref="BadInputException">It cannot be understood; what cannot be done is said in what was planned.</exception>
    public async Task<Drill> ReadAsync(DrillRequest request, CancellationToken cancel, bool joint = false)
    {
        var now = clock.GetCurrentInstant();
        if (ReplicaEndpoints.Find(fleet, request.Replica ?? "") is not var (subject, source))
        {
            throw ReplicaActions.NotFound(request.Replica ?? "", "replica");
        }

        var (kind, ending) = (ReadKind(request.Kind, DrillKind.Switchover, DrillKind.Forced, DrillKind.Automatic), ReadEnding(request.Ending));
        var (d, replica) = (subject.Database, source.Replica);
        var loss = Loss.Of(d.Host);
        if (kind == DrillKind.Forced && !string.IsNullOrEmpty(request.Loss))
        {
            if (!Loss.TryParse(request.Loss, subject.Fleet, out loss, out var error))
            {
                throw new BadInputException("loss", error);
            }

            loss = loss.For(d, subject.Fleet);
            if (loss.Kind is LossKind.None or LossKind.Hostile || loss.Spares(subject.Fleet.Hosts[d.Host]))
            {
                throw new BadInputException("loss", $"takes no host, array or site of {d.Id}");
            }
        }

        var to = request.Host is null ? replica.HostAfter(kind == DrillKind.Forced ? loss : Loss.Of(d.Host), subject.Fleet)?.Id ?? replica.Place.Hosts[0] : new(request.Host);
        if (!replica.Place.Hosts.Contains(to))
        {
            throw new BadInputException("host", $"must be one of {string.Join(", ", replica.Place.Hosts)}");
        }

        // Of what was received since its last look nobody knows yet.
        var lastLook = ReplicaEndpoints.LookedAt(source, now, guest.Pace);
        var planned = kind == DrillKind.Switchover ? PlannedDrill.Switchover(subject, source, lastLook)
            : kind == DrillKind.Automatic ? PlannedDrill.Automatic(subject, source, lastLook)
            : PlannedDrill.Forced(subject, source, replica.LosesNothing ? lastLook : now, loss);
        if (ending != DrillEnding.Part && replica.Place is not ReplicaPlace.OnHost)
        {
            planned = planned with { Refused = [.. planned.Refused, $"{replica.Id} lies on an array: {d.Host} cannot follow it; the drill can end by parting"] };
        }

        if (ending != DrillEnding.Part && (acting.WhyNotOn(d, d.Host) ?? (ending == DrillEnding.Home ? acting.WhyNotOn(d, to) : null)) is { } nowhere)
        {
            planned = planned with { Refused = [.. planned.Refused, $"the side that is left could not follow: {nowhere}"] };
        }

        if (replica.Mode == ReplicaMode.BothActive)
        {
            planned = planned with { Refused = [.. planned.Refused, $"both sides of {replica.Id} take writes already: there is no role to change"] };
        }

        var follower = Core.Drills.DrillRunbook.FollowerOf(subject.Fleet, d, now);
        if (planned.Refused.Count > 0)
        {
            return new(subject, source, kind, ending, loss, to, follower, planned, null, _ => null, null);
        }

        var known = await LearnedAsync(d.Id, cancel);
        double? Learned(string kind) => known.TryGetValue(kind, out var seconds) ? seconds : null;
        var ask = new Core.Drills.DrillRunbook.Ask(kind, ending, replica, to, follower, planned, request.ByHand ?? true, Promoting.FirstBaseOf(subject.Fleet, d), Joint: joint, Together: joint && acting.StopsTogether(d));
        return new(subject, source, kind, ending, loss, to, follower, planned, ask, Learned, Core.Drills.DrillRunbook.Of(subject, ask, Learned));
    }

    /// <summary>Reads a kind of drill.</summary>
    /// <param name="text">Its word.</param>
    /// <param name="of">Those that can be asked for.</param>
    /// <exception cref="BadInputException">It is none of them.</exception>
    public static DrillKind ReadKind(string? text, params DrillKind[] of) =>
        of.Select(k => (DrillKind?)k).FirstOrDefault(k => PlanFile.Name(k!.Value) == text) ?? throw new BadInputException("kind", $"must be one of {string.Join(", ", of.Select(PlanFile.Name))}");

    /// <summary>Reads how a drill ends; roles stay changed where nothing is said.</summary>
    /// <exception cref="BadInputException">It is no ending.</exception>
    public static DrillEnding ReadEnding(string? text) => text is null ? DrillEnding.Keep
        : Enum.GetValues<DrillEnding>().Select(e => (DrillEnding?)e).FirstOrDefault(e => PlanFile.Name(e!.Value) == text) ?? throw new BadInputException("ending", $"must be one of {string.Join(", ", Enum.GetValues<DrillEnding>().Select(PlanFile.Name))}");

    /// <summary>What was looked at before it.</summary>
    /// <param name="drill">The drill.</param>
    /// <param name="partOf">The drill of many that it is one of; null for none.</param>
    /// <param name="cancel">Breaks it off.</param>
    public async Task<IReadOnlyList<Precheck>> PrechecksAsync(Drill drill, Guid? partOf, CancellationToken cancel)
    {
        var id = drill.Database.Id.Value;
        var open = await data.Runs.AsNoTracking().Where(r => r.Database == id && r.State < (short)RunState.Done && r.Claim != null && r.Id != partOf).Select(r => new { r.Kind, r.AskedBy }).ToListAsync(cancel);
        return
        [
            .. DrillPrechecks.Of(drill.Subject, drill.Source, drill.Kind, drill.Planned, clock.GetCurrentInstant()),
            .. open.Count == 0
                ? [new Precheck("nobody else", PrecheckOutcome.Passed, "no other drill or restore touches it")]
                : open.Select(o => new Precheck("nobody else", PrecheckOutcome.Failed, $"{o.Kind} of {o.AskedBy ?? "a plan"} is under way")),
        ];
    }

    /// <summary>Why nobody can act on it; null when somebody can.</summary>
    public string? WhyNobodyActs(Drill drill) => acting.WhyNot(drill.Database, ReplicaAct.TakeOver, drill.Source.Replica.Id) ?? acting.WhyNoDrill(drill.Database);

    /// <summary>Why nobody can restore a database; null when somebody can.</summary>
    public string? WhyNobodyRestores(Core.Fleet.Database d) => acting.WhyNoRestore(d);

    /// <summary>The run of a drill, and what it keeps of what was asked.</summary>
    /// <exception cref="BadInputException">It cannot be begun as things stand.</exception>
    public async Task<(DrillQuestion Question, Run Run)> PlanAsync(Drill drill, DrillRequest request, Guid? partOf, CancellationToken cancel)
    {
        var (s, replica, planned) = (drill.Subject, drill.Source.Replica, drill.Planned);
        if (WhyNobodyActs(drill) is { } nobody)
        {
            throw new BadInputException("replica", nobody, 409, "no-driver");
        }

        if (planned.Refused.Count > 0)
        {
            throw new BadInputException("replica", string.Join("; ", planned.Refused), 409, "not-possible");
        }

        if (request.InSpite?.Length > LongestWhy)
        {
            throw new BadInputException("inSpite", $"is at most {LongestWhy} letters");
        }

        Precheck[] failed = [.. (await PrechecksAsync(drill, partOf, cancel)).Where(p => p.Outcome == PrecheckOutcome.Failed)];
        if (failed.FirstOrDefault(f => string.IsNullOrWhiteSpace(request.InSpite) || Final.Contains(f.Name)) is { } stops)
        {
            throw new BadInputException("replica", $"{stops.Name}: {stops.Detail}", 409, "precheck");
        }

        var inSpite = failed.Length == 0 ? null : $"{string.Join(", ", failed.Select(f => $"{f.Name} ({f.Detail})"))}, because {request.InSpite!.Trim()}";
        var steps = inSpite is null ? drill.Steps! : Core.Drills.DrillRunbook.Of(s, drill.Ask! with { Overridden = inSpite }, drill.Learned);
        var question = new DrillQuestion(
            replica.Id.Value,
            drill.Kind,
            drill.Ending,
            drill.Loss.ToString(),
            s.Database.Host.Value,
            drill.To.Value,
            drill.Follower,
            changes.Find("replicas", replica.Id.Value)?.ToJsonString() ?? "{}",
            planned.LostSeconds ?? 0,
            planned.ServiceSeconds ?? 0,
            s.Objective?.RpoSeconds,
            s.Objective?.RtoSeconds,
            inSpite);
        return (question, Run.Of(new RunPlan([.. steps.Steps.Select(x => x.Kind == "base" ? x with { Work = RunJson.Write(TakeSpec.Of(Promoting.FirstBaseOf(s.Fleet, s.Database)!, s.Database.Id)) } : x)])));
    }

    /// <summary>The median seconds of each kind of step in the last finished drills of a database.</summary>
    private async Task<IReadOnlyDictionary<string, double>> LearnedAsync(Id<Core.Fleet.Database> database, CancellationToken cancel)
    {
        var rows = await data.Runs.AsNoTracking().Where(r => r.Kind == DrillRunKind.KindName && r.Database == database.Value && r.State == (short)RunState.Done)
            .OrderByDescending(r => r.Due).Take(LearnsFrom).ToListAsync(cancel);
        return rows.Select(r => r.ToRun())
            .SelectMany(run => run.Plan.Steps.Where(s => !s.IsHold && !NotLearned.Contains(s.Kind)).Select(s => (s.Kind, Is: run[s.Number])))
            .Where(s => s.Is is { State: StepState.Done, TakenUp: 0, StartedAt: not null, EndedAt: not null })
            .GroupBy(s => s.Kind, s => (s.Is.EndedAt!.Value - s.Is.StartedAt!.Value).TotalSeconds)
            .ToDictionary(g => g.Key, g => LearnedPace.From([.. g]).Median);
    }
}
