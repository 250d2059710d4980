using Imbrek.Core.Changes;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Change;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.Features.Runs.JointDrill;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Features.Runs.Removal;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.RestoreTogether;
using Imbrek.Server.Features.Runs.SecondDatabase;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs;

/// <summary>A run in a list.</summary>
/// <param name="Kind">The kind of task it is of, or the kind of run.</param>
/// <param name="Plan">The plan it is of; null when of none.</param>
/// <param name="Instance">The instance it makes or removes, as "host/instance"; null when none.</param>
/// <param name="Like">How many runs of the task on the database failed for the same reason, this one included; 1 for a run by itself.</param>
/// <param name="FirstLike">When the first of them was due.</param>
internal sealed record RunLine(
    Guid Id,
    string? Plan,
    string? Task,
    string Kind,
    string Database,
    string DatabaseName,
    Instant Due,
    RunState State,
    Instant? Started,
    Instant? Ended,
    int Attempts,
    long DataBytes,
    long StoredBytes,
    double ExpectedSeconds,
    string? Set,
    string? Note,
    string? Oddity,
    Guid? After,
    string? AskedBy,
    string? Instance,
    int Like,
    Instant? FirstLike)
{
    public static RunLine Of(RunRow r, FleetState fleet, int like = 1, Instant? first = null) => new(
        r.Id,
        r.Plan,
        r.Task,
        r.Kind,
        r.Database,
        fleet.Has(r.Database) ? fleet[r.Database].Subject.Database.Name : r.Database,
        r.Due,
        r.StateIs,
        r.Started,
        r.Ended,
        r.Attempts,
        r.DataBytes,
        r.StoredBytes,
        r.ExpectedSeconds,
        r.SetId,
        r.Note,
        r.Oddity,
        r.AfterId,
        r.AskedBy,
        InstanceOf(r),
        like,
        first);

    private static string? InstanceOf(RunRow r) => r.Kind switch
    {
        RemovalKind.KindName when r.Question is { } q => RunJson.Read<RemovalKind.Question>(q) is var asked ? RestoreQuestion.ClaimOf(asked.Host, asked.Instance) : null,
        _ => RestoreQuestion.Of(r)?.Claim,
    };
}

/// <summary>A step of a run.</summary>
/// <param name="PlannedStart">When it was expected to begin, seconds after the run.</param>
/// <param name="TakenUp">How often another process went on with it.</param>
/// <param name="Choices">What people may choose here now; empty when they are not asked.</param>
/// <param name="Asked">Since when they are asked to approve it; null before.</param>
/// <param name="DecideBy">Until when; null for no limit.</param>
internal sealed record RunStepView(
    int Number,
    string Kind,
    string Title,
    string? Subject,
    IReadOnlyList<int> After,
    string Owner,
    bool Hold,
    StepState State,
    double? PlannedSeconds,
    double PlannedStart,
    string? PlannedFrom,
    Instant? Started,
    Instant? Ended,
    double? MeasuredSeconds,
    long? MeasuredBytes,
    double Share,
    string? Note,
    int Attempts,
    int TakenUp,
    IReadOnlyList<string> Choices,
    Instant? Asked,
    Instant? DecideBy,
    string? Choice,
    string? DecidedBy);

/// <summary>A line of a run's log.</summary>
internal sealed record RunLogLine(Instant At, string Text);

/// <summary>What a restore was asked for, promised and measured.</summary>
/// <param name="Standing">Whether its instance is still there.</param>
internal sealed record RestoreView(
    string Host,
    string Instance,
    string Loss,
    Instant Target,
    RestoreQuestion.Promise Planned,
    double? RpoSeconds,
    double? RtoSeconds,
    RestoreResult? Measured,
    bool Standing);

/// <summary>What a drill was asked for, expected and measured.</summary>
/// <param name="Loss">The loss a forced one stands for.</param>
internal sealed record DrillView(
    DrillKind Kind, DrillEnding Ending, string Replica, string Loss, string From, string To, double PlannedLostSeconds, double PlannedServiceSeconds, double? RpoSeconds, double? RtoSeconds, DrillResult? Measured);

/// <summary>What a drill of many was asked for, expected and measured.</summary>
/// <param name="Of">What it is held on, in words.</param>
/// <param name="Loss">The loss it stands for.</param>
/// <param name="Measured">What its databases have measured so far.</param>
internal sealed record JointDrillView(string Of, DrillKind Kind, DrillEnding Ending, string Loss, IReadOnlyList<JointDrillView.Member> Members, JointDrillResult Measured)
{
    /// <summary>A database of it.</summary>
    /// <param name="Run">The run that does and measures it; there once it has begun.</param>
    internal sealed record Member(string Database, string Name, Guid Run, string? Replica, string Host, double PlannedLostSeconds, double PlannedServiceSeconds, double? RpoSeconds, double? RtoSeconds);
}

/// <summary>What a move was planned with, expected and measured.</summary>
/// <param name="Figures">The figures it was planned with.</param>
/// <param name="Forecast">What they come to.</param>
/// <param name="Rounds">The rounds made so far in which it stayed open.</param>
/// <param name="Following">What the next round would come to by what the last one took; null before there is one, and once the last has been made.</param>
/// <param name="Last">The round with nobody writing; null until it is made.</param>
/// <param name="DowntimeSeconds">How long nobody could write; null until it lives there.</param>
/// <param name="Standing">Whether what was brought up could not be taken back, and is still there.</param>
internal sealed record MoveRunView(
    string From, string To, MoveQuestion Figures, MoveForecast Forecast, IReadOnlyList<MoveForecast.Round> Rounds, MoveForecast.Round? Following, MoveForecast.Round? Last, double? DowntimeSeconds, bool Standing);

/// <summary>What a second database was asked for, expected and measured.</summary>
/// <param name="Id">What it is called.</param>
/// <param name="Names">What its files and accounts are called.</param>
/// <param name="Forecast">Of a copy elsewhere: what its rounds were expected to come to; null for one that is as it was at an instant.</param>
/// <param name="Rounds">Of a copy elsewhere: the rounds made so far.</param>
/// <param name="Following">What the next round would come to by what the last one took; null before there is one, and once it has caught up.</param>
internal sealed record SecondRunView(string Id, IReadOnlyList<MappedName> Names, MoveForecast? Forecast, IReadOnlyList<MoveForecast.Round> Rounds, MoveForecast.Round? Following);

/// <summary>What a rehearsal of a change, or a change day, was asked for, expected and measured.</summary>
/// <param name="Rehearsal">Whether it is a rehearsal.</param>
/// <param name="WindowEnd">Of a change day: when the window ends.</param>
/// <param name="LastTurn">Of a change day: the last moment to turn back.</param>
/// <param name="Expected">What its parts were expected to take; null where nobody had rehearsed it, and of a rehearsal.</param>
/// <param name="NotTested">Of a rehearsal: what it cannot show.</param>
internal sealed record ChangeRunView(
    bool Rehearsal,
    string Name,
    string? ToVersion,
    Instant? WindowEnd,
    Instant? LastTurn,
    double? WayBackSeconds,
    ChangeForecast? Expected,
    ChangeResult? Measured,
    IReadOnlyList<string> NotTested);

/// <summary>A run of any kind.</summary>
/// <param name="Cancellable">Whether it can still be cancelled.</param>
/// <param name="CancelledBy">Who cancelled it; null when nobody did.</param>
/// <param name="Restore">For a restore or rehearsal; null for others.</param>
/// <param name="Drill">For a drill; null for others.</param>
/// <param name="Joint">For a drill of many; null for others.</param>
/// <param name="Change">For a rehearsal of a change, or a change day; null for others.</param>
/// <param name="Move">For a move; null for others.</param>
/// <param name="Second">For a second database; null for others.</param>
/// <param name="Of">Which databases are brought to one instant, in words; null for others.</param>
/// <param name="MoreOpen">In what that which it would let clients into is more open than its source: who releases it must say why.</param>
internal sealed record RunView(
    RunLine Run,
    IReadOnlyList<RunStepView> Steps,
    bool Cancellable,
    string? CancelledBy,
    RestoreView? Restore,
    DrillView? Drill,
    JointDrillView? Joint,
    ChangeRunView? Change,
    MoveRunView? Move,
    SecondRunView? Second,
    string? Of,
    IReadOnlyList<string> MoreOpen,
    IReadOnlyList<RunLogLine> Log,
    IReadOnlyList<RunLine> Followed,
    double? UsualSeconds,
    double? UsualBytes)
{
    /// <summary>The steps of a row, with what may be decided about them now.</summary>
    public static IReadOnlyList<RunStepView> StepsOf(RunRow row, IReadOnlyList<Decision> decisions, Instant now)
    {
        if (row.Steps is null)
        {
            return [];
        }

        var run = row.ToRun().Hear(decisions, row.CancelledBy);
        var ask = row.StateIs.IsOver() ? [] : run.Next(now).Ask;
        var spans = run.Plan.ExpectedSpans(s => run[s.Number].State != StepState.Skipped);
        return
        [
            .. run.Plan.Steps.Select(s => (Step: s, Is: run[s.Number], Measured: Measured(run, s))).Select(x => new RunStepView(
                x.Step.Number,
                x.Step.Kind,
                x.Step.Title,
                x.Step.Subject,
                x.Step.After,
                x.Step.Owner,
                x.Step.IsHold,
                x.Is.State,
                x.Step.ExpectedSeconds,
                spans[x.Step.Number].From,
                x.Step.ExpectedFrom,
                x.Is.StartedAt,
                x.Is.EndedAt,
                x.Measured?.Seconds,
                x.Measured?.Bytes,
                x.Is.Share,
                x.Is.Note,
                x.Is.Attempts,
                x.Is.TakenUp,
                !ask.Contains(x.Step.Number) ? [] : x.Step.IsHold ? x.Step.Choices : [Step.Approve, Step.Refuse],
                x.Is.AskedAt,
                x.Is.AskedAt is { } asked && x.Step.DecideWithinSeconds is { } within ? asked + Duration.FromSeconds(within) : null,
                x.Is.Choice,
                x.Is.DecidedBy)),
        ];

        static RestoreAside.Measured? Measured(Run run, Step s) =>
            run[s.Number].Measured is null ? null : RestoreAside.MeasuredBy(run).First(m => m.Step.Number == s.Number).Measured is { Seconds: > 0 } m ? m : null;
    }

    /// <summary>What a drill was asked for; null for a run of another kind.</summary>
    public static DrillView? DrillOf(RunRow r)
    {
        if (r.Kind != DrillRunKind.KindName || r.Question is not { } question)
        {
            return null;
        }

        var q = RunJson.Read<DrillQuestion>(question);
        return new(q.Kind, q.Ending, q.Replica, q.Loss, q.From, q.To, q.PlannedLostSeconds, q.PlannedServiceSeconds, q.RpoSeconds, q.RtoSeconds, r.Result is null ? null : RunJson.Read<DrillResult>(r.Result));
    }

    /// <summary>Which databases are brought to one instant, in words; null for a run of another kind.</summary>
    public static string? OfMany(RunRow r) => r.Kind == RestoreTogetherKind.KindName && r.Question is { } question ? RunJson.Read<RestoreTogetherKind.Question>(question).Of : null;

    /// <summary>What a drill of many was asked for; null for a run of another kind.</summary>
    public static JointDrillView? JointOf(RunRow r, IReadOnlyList<RunRow> followed, FleetState fleet)
    {
        if (r.Kind != JointDrillKind.KindName || r.Question is not { } question)
        {
            return null;
        }

        var q = RunJson.Read<JointDrillKind.Question>(question);
        return new(
            q.Of,
            q.Kind,
            q.Ending,
            q.Loss,
            [.. q.Members.Select((m, i) => new JointDrillView.Member(
                m.Database,
                fleet.Fleet.DatabaseById.TryGetValue(new(m.Database), out var d) ? d.Name : m.Database,
                RunsOfMany.IdOf(r.Id, i),
                m.Replica,
                m.Host,
                m.LostSeconds,
                m.ServiceSeconds,
                m.RpoSeconds,
                m.RtoSeconds))],
            JointDrillKind.ResultOf(r.ToRun(), q, [.. q.Members.Select((_, i) => followed.FirstOrDefault(f => f.Id == RunsOfMany.IdOf(r.Id, i)))]));
    }

    /// <summary>What a change was asked for; null for a run of another kind.</summary>
    public static ChangeRunView? ChangeOf(RunRow r, FleetState fleet, Drivers drivers)
    {
        if (r.Question is null || r.Kind is not (RehearseChangeKind.KindName or ChangeDayKind.KindName))
        {
            return null;
        }

        var measured = r.Result is null ? null : RunJson.Read<ChangeResult>(r.Result);
        if (r.Kind == ChangeDayKind.KindName)
        {
            var day = RunJson.Read<ChangeDayKind.Question>(r.Question);
            return new(false, day.Change.Name, day.Change.ToVersion, day.WindowEnd, day.LastTurn, day.WayBackSeconds, day.Forecast, measured, []);
        }

        var asked = RunJson.Read<RestoreQuestion>(r.Question);
        var notTested = fleet.Has(r.Database) && fleet.Fleet.Hosts.TryGetValue(new(asked.Host), out var host)
            ? NotTested.Of(fleet[r.Database].Subject, asked.Change!, host, drivers.TryFor(fleet[r.Database].Subject.Database)?.RestoresInstances ?? false)
            : [];
        return new(true, asked.Change!.Name, asked.Change.ToVersion, null, null, null, null, measured, notTested);
    }

    /// <summary>What a move was asked for; null for a run of another kind.</summary>
    public static MoveRunView? MoveOf(RunRow r)
    {
        if (r.Kind != MoveKind.KindName || r.Question is not { } question)
        {
            return null;
        }

        var asked = RunJson.Read<MoveKind.Question>(question);
        var (open, last, downtime) = MoveByRounds.MeasuredBy(r.ToRun());
        return new(asked.From, asked.Restore.Host, asked.Figures, asked.Forecast, open, last is null && open.Count > 0 ? MoveForecast.Following(asked.Figures, open[^1].Seconds) : null, last, downtime, r.Claim is not null && r.StateIs.IsOver());
    }

    /// <summary>What a second database was asked for; null for a run of another kind.</summary>
    public static SecondRunView? SecondOf(RunRow r)
    {
        if (r.Kind != SecondDatabaseKind.KindName || r.Question is not { } question)
        {
            return null;
        }

        var (asked, run) = (RunJson.Read<SecondDatabaseKind.Question>(question), r.ToRun());
        MoveForecast.Round[] rounds = asked.Figures is null ? [] : [.. LogRounds.MeasuredBy(run).Select(x => x.Round)];
        var caughtUp = run.Plan.Steps.Any(s => s.Kind == "open" && run[s.Number].StartedAt is not null);
        return new(asked.Id, asked.Names, asked.Forecast, rounds, rounds.Length > 0 && !caughtUp && !r.StateIs.IsOver() ? MoveForecast.Following(asked.Figures!, rounds[^1].Seconds) : null);
    }

    /// <summary>What a restore was asked for; null for a run of another kind.</summary>
    public static RestoreView? RestoreOf(RunRow r, FleetState fleet)
    {
        if (Moving.Is(r.Kind) || RestoreQuestion.Of(r) is not { } asked)
        {
            return null;
        }

        var objective = fleet.Has(r.Database) ? fleet[r.Database].Subject.Objective : null;
        return new RestoreView(
            asked.Host,
            asked.Instance,
            asked.Loss,
            asked.Target,
            asked.Planned,
            objective?.RpoSeconds,
            objective?.RtoSeconds,
            RestoreResult.Kept(r),
            r.Claim is not null && r.StateIs.IsOver());
    }
}
