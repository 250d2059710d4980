using System.Collections.Immutable;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Runs;

/// <summary>
/// A run: its plan and what has happened. Pure: <see cref="Next"/> says what is to be done, every other member says what the run is
/// after something happened. The same plan and the same happenings make the same run, so one that is read from what was kept decides as
/// the one that was lost.
/// <para>
/// A run goes <b>forward</b> until it is done, or <b>back</b> once a step has failed for good or somebody cancelled it: what is under way
/// is broken off, then what was begun is taken back in reverse order. Where there is no way back any more, what does not wait for the
/// failed step goes on. What could not be taken back keeps what it stands on, and is named in the end.
/// </para>
/// </summary>
public sealed class Run
{
    /// <summary>How often taking a step back is tried.</summary>
    public const int MostUndoAttempts = 4;

    private const double UndoPauseSeconds = 1;

    private readonly ImmutableDictionary<int, StepProgress> progress;

    /// <summary>Makes a run of what was kept.</summary>
    /// <param name="plan">Its steps.</param>
    /// <param name="progress">What has become of them; what is not named has not begun.</param>
    /// <param name="cancelledBy">Who cancelled it; null when nobody did.</param>
    public Run(RunPlan plan, IReadOnlyDictionary<int, StepProgress> progress, string? cancelledBy = null)
        : this(plan, progress.ToImmutableDictionary(), cancelledBy)
    {
    }

    private Run(RunPlan plan, ImmutableDictionary<int, StepProgress> progress, string? cancelledBy) =>
        (Plan, this.progress, CancelledBy) = (plan, progress, cancelledBy);

    /// <summary>Begins a run of a plan.</summary>
    public static Run Of(RunPlan plan) => new(plan, ImmutableDictionary<int, StepProgress>.Empty, null);

    /// <summary>Its steps.</summary>
    public RunPlan Plan { get; }

    /// <summary>Who cancelled it; null when nobody did.</summary>
    public string? CancelledBy { get; }

    /// <summary>What has become of a step.</summary>
    public StepProgress this[int number] => progress.TryGetValue(number, out var p) ? p : NotBegun;

    /// <summary>Whether it may still be cancelled: no step has begun after which there is no way back.</summary>
    public bool CanTurnBack => Plan.Steps.All(s => !s.NoWayBack || this[s.Number].StartedAt is null);

    /// <summary>The step that failed it; null when none did.</summary>
    public int? FailedStep => Plan.Steps.Where(s => this[s.Number].Broke && !Plan.IsReplaced(s.Number)).Select(s => (int?)s.Number).FirstOrDefault();

    /// <summary>Whether what was done is being taken back.</summary>
    public bool GoesBack => (CancelledBy is not null || FailedStep is not null) && CanTurnBack;

    private static StepProgress NotBegun { get; } = new();

    /// <summary>What is to be done now.</summary>
    /// <param name="now">The instant; what waits for its time is begun from then on.</param>
    public NextSteps Next(Instant now) => GoesBack ? Back(now) : Forward(now);

    /// <summary>Where it stands.</summary>
    public RunState State(Instant now)
    {
        var next = Next(now);
        return next.End is { } end ? end.State
            : GoesBack ? RunState.Undoing
            : next.Ask.Count > 0 && next.Start.Count == 0 && Plan.Steps.All(s => this[s.Number].State != StepState.Running || s.IsHold) ? RunState.Held
            : progress.Values.Any(p => p.StartedAt is not null) ? RunState.Running
            : RunState.Waiting;
    }

    /// <summary>A step begins.</summary>
    /// <exception cref="InvalidOperationException">It may not begin now.</exception>
    public Run Begin(int step, Instant at)
    {
        Require(Forward(at).Start.Contains(step) && !GoesBack, step, "begin");
        var p = this[step];
        return With(step, p with { State = StepState.Running, StartedAt = p.StartedAt ?? at, Attempts = p.Attempts + 1, NotBefore = null, Share = 0 });
    }

    /// <summary>A step under way is done.</summary>
    public Run Finish(int step, Instant at, string? note = null, string? measured = null)
    {
        RequireRunning(step);
        return With(step, this[step] with { State = StepState.Done, EndedAt = at, Share = 1, Note = note ?? this[step].Note, Measured = measured ?? this[step].Measured });
    }

    /// <summary>A step under way says how far it is.</summary>
    public Run Show(int step, double share) => this[step].State == StepState.Running ? With(step, this[step] with { Share = Math.Clamp(share, 0, 1) }) : this;

    /// <summary>There is something to say of a step.</summary>
    public Run Say(int step, string note) => With(step, this[step] with { Note = note });

    /// <summary>A probe has not found yet what it looks for; it looks again.</summary>
    public Run LookAgain(int step, Instant at, Instant notBefore, string? note)
    {
        RequireRunning(step);
        var p = this[step];
        return p.StartedAt is { } since && Plan[step].TimeLimitSeconds is { } limit && (at - since).TotalSeconds >= limit
            ? Fail(step, at, note ?? "what it looked for did not come", canRetry: false)
            : ChosenAgainst(Plan[step]) ? LetGo(step, at, note)
            : With(step, p with { State = StepState.Waiting, Attempts = p.Attempts - 1, NotBefore = notBefore, Note = note });
    }

    /// <summary>A step under way could not be done: it is tried again, people decide again, or the run has failed.</summary>
    public Run Fail(int step, Instant at, string note, bool canRetry)
    {
        RequireRunning(step);
        var (s, p) = (Plan[step], this[step]);
        if (ChosenAgainst(s))
        {
            return LetGo(step, at, note);
        }

        if (canRetry && p.Attempts < s.Attempts && !GoesBack)
        {
            return With(step, p with { State = StepState.Waiting, NotBefore = at + Duration.FromSeconds(Retry.PauseSeconds(s.BackOffSeconds, p.Attempts)), Note = note });
        }

        if (s.Reopens is { } hold && !GoesBack)
        {
            return Reopen(step, hold, note);
        }

        return With(step, p with { State = StepState.Failed, Broke = true, EndedAt = at, Note = note });
    }

    /// <summary>A step under way was broken off because the run goes back.</summary>
    public Run Stop(int step, Instant at, string? note = null)
    {
        RequireRunning(step);
        var state = Plan[step].Undo == Undo.Nothing ? StepState.Undone : StepState.Stopped;
        return With(step, this[step] with { State = state, EndedAt = at, Note = note ?? this[step].Note }).Covered(at);
    }

    /// <summary>A step was taken back.</summary>
    public Run Undid(int step, Instant at)
    {
        Require(Back(Instant.MaxValue).Undo.Contains(step), step, "be taken back");
        return With(step, this[step] with { State = StepState.Undone, EndedAt = this[step].EndedAt ?? at, NotBefore = null }).Covered(at);
    }

    /// <summary>Taking a step back failed; it is tried again after a growing pause, and given up in the end.</summary>
    public Run UndoFailed(int step, Instant at, string note)
    {
        Require(Back(Instant.MaxValue).Undo.Contains(step), step, "be taken back");
        var p = this[step] with { UndoAttempts = this[step].UndoAttempts + 1, Note = note };
        return (p.UndoAttempts >= MostUndoAttempts
            ? With(step, p with { State = StepState.LeftBehind, NotBefore = null }).KeepUnder(step)
            : With(step, p with { NotBefore = at + Duration.FromSeconds(UndoPauseSeconds * Math.Pow(4, p.UndoAttempts - 1)) })).Covered(at);
    }

    /// <summary>It has ended: what was never begun is not needed, and people are not asked any more.</summary>
    public Run Close(Instant at)
    {
        Require(Next(Instant.MaxValue).End is not null, 0, "be closed over");
        return new(
            Plan,
            progress.SetItems(Plan.Steps.Where(s => this[s.Number].State is StepState.Waiting or StepState.Running)
                .Select(s => KeyValuePair.Create(s.Number, this[s.Number] with { State = StepState.Skipped, NotBefore = null, EndedAt = this[s.Number].StartedAt is null ? null : at }))),
            CancelledBy);
    }

    /// <summary>Steps that were under way when their process ended go on; says so in their notes.</summary>
    public Run TakeUp(string note) => new(
        Plan, progress.SetItems(progress.Where(p => p.Value.State == StepState.Running && !Plan[p.Key].IsHold).Select(p => KeyValuePair.Create(p.Key, p.Value with { Note = note, TakenUp = p.Value.TakenUp + 1 }))), CancelledBy);

    /// <summary>Takes over what people have decided: decisions of this round, and who cancelled it.</summary>
    public Run Hear(IEnumerable<Decision> decisions, string? cancelledBy)
    {
        var run = cancelledBy == CancelledBy ? this : new Run(Plan, progress, cancelledBy);
        foreach (var d in decisions)
        {
            run = run.Hear(d);
        }

        return run;
    }

    /// <summary>Approvals that are asked for now are so from this instant on; those that nobody gave within their time are refused.</summary>
    public Run Ask(Instant now)
    {
        var changed = progress;
        foreach (var n in Next(now).Ask.Where(n => !Plan[n].IsHold))
        {
            var p = this[n];
            var asked = p.AskedAt ?? now;
            changed = ExpiresAt(Plan[n], asked) <= now
                ? changed.SetItem(n, p with { AskedAt = asked, State = StepState.Failed, Broke = true, EndedAt = now, Note = $"nobody approved it within {PlainDuration.Of(Plan[n].DecideWithinSeconds!.Value)}" })
                : changed.SetItem(n, p with { AskedAt = asked });
        }

        return new Run(Plan, changed, CancelledBy);
    }

    /// <summary>The plan goes on otherwise where a step failed.</summary>
    /// <exception cref="InvalidOperationException">The step has not failed the run, or what is taken back is undone by itself.</exception>
    public Run Amend(Amendment amendment)
    {
        Require(FailedStep == amendment.Replaces && CancelledBy is null, amendment.Replaces, "be replaced");
        Require(amendment.Add.Any(s => s.InsteadOf == amendment.Replaces), amendment.Replaces, "be replaced by nothing");
        var changed = progress;
        foreach (var s in Plan.Steps.Where(s => this[s.Number].State is StepState.Waiting))
        {
            changed = changed.SetItem(s.Number, this[s.Number] with { State = NotNeeded(s), NotBefore = null, Note = "its part is taken over below" });
        }

        foreach (var back in amendment.TakenBack)
        {
            Require(this[back].State == StepState.Done && Plan[back].Undo != Undo.Own, back, "be taken back by an amendment");
            changed = changed.SetItem(back, this[back] with { State = StepState.Undone, Note = "taken back: another way is gone" });
        }

        return new Run(new RunPlan([.. Plan.Steps, .. amendment.Add]), changed, CancelledBy);
    }

    private Run Hear(Decision d)
    {
        if (Plan.Steps.All(s => s.Number != d.Step) || this[d.Step] is not { Choice: null } p || p.Round != d.Round)
        {
            return this;
        }

        var s = Plan[d.Step];
        if (s.IsHold)
        {
            if (p.State != StepState.Running || !s.Choices.Contains(d.Choice))
            {
                return this;
            }

            var decided = With(d.Step, p with { State = StepState.Done, EndedAt = d.At, Choice = d.Choice, DecidedBy = d.Who, Share = 1 });
            return new Run(Plan, decided.progress.SetItems(Unchosen(d.Step, d.Choice).Where(x => decided[x.Number].State == StepState.Waiting).Select(x => KeyValuePair.Create(x.Number, decided[x.Number] with { State = NotNeeded(x) }))), CancelledBy);
        }

        if (!s.NeedsApproval || p.State != StepState.Waiting || d.Choice is not (Step.Approve or Step.Refuse))
        {
            return this;
        }

        return With(d.Step, d.Choice == Step.Approve
            ? p with { Choice = d.Choice, DecidedBy = d.Who }
            : p with { Choice = d.Choice, DecidedBy = d.Who, State = StepState.Failed, Broke = true, EndedAt = d.At, Note = $"refused by {d.Who}{(d.Why is null ? "" : $": {d.Why}")}" });
    }

    /// <summary>The steps that are not done when something is chosen at a hold, and those that a hold among them would lead to.</summary>
    private IEnumerable<Step> Unchosen(int hold, string? choice) =>
        Plan.Steps.Where(x => x.Only is { } only && only.Hold == hold && only.Choice != choice).SelectMany(x => x.IsHold ? Unchosen(x.Number, null).Prepend(x) : [x]);

    private NextSteps Forward(Instant now)
    {
        var (start, ask) = (new List<int>(), new List<int>());
        Instant? wake = null;
        var (open, going) = (false, false);
        foreach (var s in Plan.Steps)
        {
            var p = this[s.Number];
            if (p.State == StepState.Running)
            {
                (open, going) = (true, true);
                if (s.IsHold)
                {
                    ask.Add(s.Number);
                }
            }
            else if (p.State == StepState.Waiting)
            {
                open = true;
                if (!s.After.All(Settled) || (s.Only is { } only && this[only.Hold].Choice != only.Choice))
                {
                    continue;
                }

                if (s.NeedsApproval && p.Choice is null)
                {
                    ask.Add(s.Number);
                    wake = p.AskedAt is { } asked && ExpiresAt(s, asked) is { } ends && !(wake <= ends) ? ends : wake;
                }
                else if (p.NotBefore is { } at && at > now)
                {
                    wake = wake is { } w ? Instant.Min(w, at) : at;
                }
                else
                {
                    start.Add(s.Number);
                }
            }
        }

        // Where there is no way back, what waits for a failed step never begins.
        var stuck = open && !going && start.Count == 0 && ask.Count == 0 && wake is null;
        return new(start, ask, [], [], wake, open && !stuck ? null : new Ending(FailedStep is null && !stuck ? RunState.Done : RunState.Failed, FailedStep, []));
    }

    private static Instant? ExpiresAt(Step s, Instant asked) => s.DecideWithinSeconds is { } seconds ? asked + Duration.FromSeconds(seconds) : null;

    private NextSteps Back(Instant now)
    {
        int[] running = [.. Plan.Steps.Where(s => this[s.Number].State == StepState.Running && !s.IsHold).Select(s => s.Number)];
        if (running.Length > 0)
        {
            return new([], [], running, [], null, null);
        }

        var undo = new List<int>();
        Instant? wake = null;
        foreach (var s in Plan.Steps.Where(s => ToUndo(s.Number)))
        {
            if (Above(s.Number).Any(ToUndo))
            {
                continue;
            }

            if (this[s.Number].NotBefore is { } at && at > now)
            {
                wake = wake is { } w ? Instant.Min(w, at) : at;
            }
            else
            {
                undo.Add(s.Number);
            }
        }

        if (undo.Count > 0 || wake is not null)
        {
            return new([], [], [], undo, wake, null);
        }

        int[] left = [.. Plan.Steps.Where(s => this[s.Number].State == StepState.LeftBehind).Select(s => s.Number)];
        return new([], [], [], [], null, new Ending(CancelledBy is not null && FailedStep is null && left.Length == 0 ? RunState.Cancelled : RunState.Failed, FailedStep, left));
    }

    /// <summary>Whether it was begun, and not taken back since; one that waits for its next attempt was begun too.</summary>
    private bool Stands(int number) => this[number] is { StartedAt: not null, State: StepState.Done or StepState.Failed or StepState.Stopped or StepState.Waiting };

    private bool ToUndo(int number) => Plan[number].Undo == Undo.Own && Stands(number);

    private bool Settled(int number) => this[number].State is StepState.Done or StepState.Skipped or StepState.Stopped or StepState.Undone;

    /// <summary>How a step stands that is not needed any more: one that was begun may have left something behind.</summary>
    private StepState NotNeeded(Step s) => this[s.Number].StartedAt is not null && s.Undo != Undo.Nothing ? StepState.Stopped : StepState.Skipped;

    /// <summary>Whether people have decided otherwise while it was under way: its hold was opened again beside it, and something else chosen.</summary>
    private bool ChosenAgainst(Step s) => s.Only is { } only && this[only.Hold].Choice is { } choice && choice != only.Choice;

    /// <summary>What nobody wants any more is neither tried again nor a failure of the run.</summary>
    private Run LetGo(int step, Instant at, string? note) => With(step, this[step] with { State = NotNeeded(Plan[step]), EndedAt = at, Note = note });

    /// <summary>All that waits for a step, directly or not.</summary>
    private HashSet<int> Above(int number)
    {
        var seen = new HashSet<int>();
        var look = new Stack<int>(Plan.Dependents(number));
        while (look.TryPop(out var n))
        {
            if (seen.Add(n))
            {
                foreach (var d in Plan.Dependents(n))
                {
                    look.Push(d);
                }
            }
        }

        return seen;
    }

    /// <summary>What could not be taken back keeps what it stands on.</summary>
    private Run KeepUnder(int step)
    {
        var run = this;
        foreach (var s in Plan.Steps.Where(s => ToUndo(s.Number) && Above(s.Number).Contains(step)))
        {
            run = run.With(s.Number, run[s.Number] with { State = StepState.LeftBehind, NotBefore = null, Note = $"kept: step {step}, which stands on it, could not be taken back" });
        }

        return run;
    }

    /// <summary>Steps that go with what they stand on, once that is decided.</summary>
    private Run Covered(Instant at)
    {
        if (!GoesBack)
        {
            return this;
        }

        var run = this;
        foreach (var s in Plan.Steps.Where(s => s.Undo == Undo.Covered))
        {
            if (!run.Stands(s.Number))
            {
                continue;
            }

            var ground = s.After.Select(a => run[a].State).ToArray();
            if (ground.Contains(StepState.LeftBehind))
            {
                run = run.With(s.Number, run[s.Number] with { State = StepState.LeftBehind });
            }
            else if (s.After.Any(a => Plan[a].Undo != Undo.Nothing && run[a].State == StepState.Undone))
            {
                run = run.With(s.Number, run[s.Number] with { State = StepState.Undone, EndedAt = run[s.Number].EndedAt ?? at });
            }
        }

        return run;
    }

    private Run Reopen(int failed, int hold, string note)
    {
        var changed = progress
            .SetItem(failed, this[failed] with { State = StepState.Waiting, Attempts = 0, NotBefore = null, Note = note })
            .SetItem(hold, this[hold] with { State = StepState.Running, EndedAt = null, Choice = null, Round = this[hold].Round + 1, Share = 0 });
        foreach (var s in Unchosen(hold, null).Where(s => changed.TryGetValue(s.Number, out var p) && p.State is StepState.Skipped or StepState.Stopped))
        {
            changed = changed.SetItem(s.Number, changed[s.Number] with { State = StepState.Waiting });
        }

        return new Run(Plan, changed, CancelledBy);
    }

    private Run With(int step, StepProgress p) => new(Plan, progress.SetItem(step, p), CancelledBy);

    private void RequireRunning(int step) => Require(this[step].State == StepState.Running, step, "end");

    private static void Require(bool holds, int step, string what)
    {
        if (!holds)
        {
            throw new InvalidOperationException($"step {step} cannot {what} now");
        }
    }
}
