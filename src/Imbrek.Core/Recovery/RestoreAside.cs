using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A restore path as the steps of a run, and how each of them is carried out through a driver.</summary>
public static class RestoreAside
{
    /// <summary>What people choose at the hold to let clients in.</summary>
    public const string Release = "release";

    /// <summary>What people choose at the hold to have it removed.</summary>
    public const string ThrowAway = "throw-away";

    private const double ShortestLimitSeconds = 3600;
    private const double LimitFactor = 20;
    private const double LongestTakingSeconds = 86_400;

    /// <summary>One copy to read.</summary>
    /// <param name="Set">The set.</param>
    /// <param name="Store">The store of the copy.</param>
    /// <param name="ProfileSeconds">Seconds by the profile, with nothing learned.</param>
    public sealed record Piece(string Set, string Store, double ProfileSeconds);

    /// <summary>What a step works on.</summary>
    /// <param name="Pieces">The copies it reads, in order.</param>
    /// <param name="StopAt">Up to which instant log is applied; null where the step applies none. Text as in the open formats.</param>
    /// <param name="Avoids">The copy whose failure made the run go this way; null when none did.</param>
    /// <param name="StopBefore">The position it stops before instead; null for none.</param>
    public sealed record Work(IReadOnlyList<Piece> Pieces, string? StopAt, IReadOnlyList<Piece>? Avoids = null, long? StopBefore = null);

    /// <summary>What a step measured.</summary>
    /// <param name="Seconds">Seconds the driver took.</param>
    /// <param name="Bytes">Bytes it moved.</param>
    /// <param name="Reached">The instant really reached; null when the step does not tell.</param>
    /// <param name="Position">The log position really reached; null when the step does not tell.</param>
    /// <param name="Checks">What was checked; null when nothing was.</param>
    public sealed record Measured(double Seconds, long Bytes, string? Reached = null, long? Position = null, IReadOnlyList<CheckResult>? Checks = null);

    /// <summary>The steps of a path.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path.</param>
    /// <param name="instance">The name of the instance.</param>
    /// <param name="held">Whether people look before anybody is let in; otherwise it is thrown away once it is checked.</param>
    /// <param name="before">The log position it stops before, exactly; null for the instant the path reaches.</param>
    public static IReadOnlyList<Step> Steps(Database database, RestorePath path, string instance, bool held, long? before = null)
    {
        var steps = Ready(database, path, instance, 0, before);
        var (check, host) = (steps[^1].Number, path.Host.Value);
        if (!held)
        {
            return [.. steps, Last(check + 1, "discard", "Throw it away", host, [check])];
        }

        var hold = check + 1;
        return
        [
            .. steps,
            Held(hold, check, [Release, ThrowAway]),
            Last(hold + 1, "release", "Let clients in", host, [hold], new(hold, Release)) with { ExpectedSeconds = database.RedirectSeconds, ExpectedFrom = "fleet", Undo = Undo.Covered, Reopens = hold },
            Last(hold + 2, "discard", "Throw it away", host, [hold], new(hold, ThrowAway)),
        ];
    }

    /// <summary>The steps of a path until it is ready and checked.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path.</param>
    /// <param name="instance">The name of the instance.</param>
    /// <param name="after">The number of the step they follow; 0 for none.</param>
    /// <param name="before">The log position it stops before, exactly; null for the instant the path reaches.</param>
    /// <param name="mounted">Whether its sets are opened where they lie.</param>
    /// <param name="open">Whether it is opened and checked; otherwise it is left open for log.</param>
    internal static IReadOnlyList<Step> Ready(Database database, RestorePath path, string instance, int after, long? before, bool mounted = false, bool open = true)
    {
        Step[] set = [.. path.Needs.Select((n, i) => n.ToSet(after + 1 + i, after + i))];
        after += set.Length;
        var provision = new Step
        {
            Number = after + 1,
            Kind = "provision",
            Title = $"Make an empty instance {instance} on {path.Host}",
            Subject = path.Host.Value,
            After = after == 0 ? [] : [after],
            ExpectedSeconds = path.ProvisionSeconds,
            ExpectedFrom = "profile",
            TimeLimitSeconds = Limit(path.ProvisionSeconds),
            Undo = Undo.Own,
            Attempts = 3,
            BackOffSeconds = 5,
        };
        return [.. set, provision, .. Onwards(database, path, provision.Number, provision.Number + 1, new HashSet<string>(), path.Needs, before, mounted, open)];
    }

    /// <summary>The steps that bring what is there further by log, and, if it is to be, open, check and hold it. Nothing takes back what log did.</summary>
    /// <param name="database">The database.</param>
    /// <param name="engine">Its engine.</param>
    /// <param name="host">Where it is.</param>
    /// <param name="path">The log that is applied; null for none.</param>
    /// <param name="open">Whether it is opened afterwards.</param>
    internal static IReadOnlyList<Step> Further(Database database, EngineProfile engine, Id<Host> host, RestorePath? path, bool open)
    {
        path = (path ?? new RestorePath(host, Instant.MinValue, 0, 0, 0, 0, 0, [], new())) with { OpenSeconds = engine.OpenSeconds };
        Step[] steps = [.. Onwards(database, path, 0, 1, new HashSet<string>(), [], null, open: open).Select(s => s with { Undo = Undo.Nothing })];
        if (!open)
        {
            return steps;
        }

        var (check, hold) = (steps.Length, steps.Length + 1);
        return
        [
            .. steps,
            Held(hold, check, [Release, ThrowAway]),
            Last(hold + 1, "release", "Let clients in", host.Value, [hold], new(hold, Release)) with { ExpectedSeconds = database.RedirectSeconds, ExpectedFrom = "fleet", Reopens = hold },
            Last(hold + 2, "discard", "Throw it away", host.Value, [hold], new(hold, ThrowAway)),
        ];
    }

    /// <summary>The step at which people look.</summary>
    internal static Step Held(int number, int check, string[] choices) => new()
    {
        Number = number,
        Kind = "hold",
        Title = "Hold: nobody is let in until somebody has looked",
        After = [check],
        Choices = choices,
        Owner = "operate",
    };

    /// <summary>A step that ends a restore; a refusal is tried again.</summary>
    internal static Step Last(int number, string kind, string title, string subject, int[] after, Step.Guard? only = null) => new()
    {
        Number = number,
        Kind = kind,
        Title = title,
        Subject = subject,
        After = after,
        Only = only,
        TimeLimitSeconds = ShortestLimitSeconds,
        Attempts = 4,
        BackOffSeconds = 1,
        RetryRefusals = true,
    };

    /// <summary>A step after the last there is, which fails where it is refused or takes so much longer than expected.</summary>
    /// <param name="steps">The steps before it.</param>
    /// <param name="kind">What it does.</param>
    /// <param name="title">The same, for people.</param>
    /// <param name="subject">What it is done to.</param>
    /// <param name="expected">Seconds it is expected to take, and where they are from; null where nothing tells.</param>
    /// <param name="undo">What takes it back.</param>
    /// <param name="only">Only after this choice; null for always.</param>
    internal static Step Next(List<Step> steps, string kind, string title, string subject, (double Seconds, string From)? expected, Undo undo, Step.Guard? only) =>
        Last(steps.Count + 1, kind, title, subject, steps.Count == 0 ? [] : [steps.Count], only) with
        {
            ExpectedSeconds = expected?.Seconds,
            ExpectedFrom = expected?.From,
            Undo = undo,
            RetryRefusals = false,
            TimeLimitSeconds = Limit(expected?.Seconds ?? 0),
        };

    /// <summary>The step that takes the first base of what has begun anew.</summary>
    /// <param name="number">Its number.</param>
    /// <param name="after">The step it follows.</param>
    /// <param name="of">What it is the first of, in words.</param>
    /// <param name="task">The task by which it is taken.</param>
    /// <param name="database">The database.</param>
    /// <param name="only">Only after this choice.</param>
    internal static Step FirstBase(int number, int after, string of, PlanTask task, Id<Database> database, Step.Guard only) =>
        Last(number, "base", $"Take the first {task.Kind.Makes()!.Value.ToString().ToLowerInvariant()} of {of} into {task.Store}", task.Store!.Value.Value, [after], only) with
        {
            TimeLimitSeconds = LongestTakingSeconds,
            RetryRefusals = false,
            Work = RunJson.Write(TakeSpec.Of(task, database)),
        };

    /// <summary>How a run goes on with another path where a copy failed it: what is restored stays when the same sets are needed, otherwise it begins anew.</summary>
    /// <param name="database">The database.</param>
    /// <param name="run">The run; a step of it has failed.</param>
    /// <param name="path">The path to go on with.</param>
    /// <param name="avoids">The copy that failed.</param>
    public static Amendment GoOn(Database database, Run run, RestorePath path, SetCopy avoids)
    {
        var failed = run.FailedStep!.Value;
        Step[] reading = [.. run.Plan.Steps.Where(s => s.Kind is "restore" or "logs" && (s.Number == failed || run[s.Number].State is StepState.Done or StepState.Waiting))];
        var open = run.Plan.Steps.Any(s => s.Kind == "check");
        var same = reading.SelectMany(SetsOf).SequenceEqual(path.Steps.Select(s => s.Set.Value));
        var done = reading.Where(s => run[s.Number].State == StepState.Done).ToArray();
        var next = run.Plan.Steps.Max(s => s.Number) + 1;
        var before = run.Plan.Steps.Select(s => WorkOf(s).StopBefore).FirstOrDefault(b => b is not null);
        var ground = same && done.Length > 0 ? done[^1].Number : run.Plan.Steps.Last(s => s.Kind is "provision" or "again").Number;

        // What is set stays so until the last of it is restored, whatever way that goes.
        var back = NeededSetting.SetBackBy(run.Plan.Steps.Where(s => run[s.Number].State == StepState.Done));
        NeededSetting[] set = [.. NeededSetting.ChangedBy(run.Plan.Steps).Where(n => !back.Any(n.IsSame))];
        if (same)
        {
            var kept = done.SelectMany(SetsOf).ToHashSet();
            Step[] rest = [.. Onwards(database, path, ground, next, kept, set, before, open: open)];
            return new(failed, [], [Avoiding(rest[0] with { InsteadOf = failed }), .. rest[1..], .. Ending(rest[^1].Number)]);
        }

        NeededSetting[] further = [.. path.Needs.Where(n => !set.Any(n.IsSame))];
        Step[] settings = [.. further.Select((n, i) => n.ToSet(next + i, i == 0 ? ground : next + i - 1))];
        next += settings.Length;
        var anew = new Step
        {
            Number = next,
            Kind = "again",
            Title = "Empty the instance: another chain is used",
            Subject = path.Host.Value,
            After = [settings.Length == 0 ? ground : next - 1],
            InsteadOf = failed,
            ExpectedSeconds = path.ProvisionSeconds,
            ExpectedFrom = "profile",
            TimeLimitSeconds = Limit(path.ProvisionSeconds),
            Undo = Undo.Covered,
            Attempts = 3,
            BackOffSeconds = 5,
        };
        Step[] onwards = [.. Onwards(database, path, next, next + 1, new HashSet<string>(), [.. set, .. further], before, open: open)];
        return new(failed, [.. done.Select(s => s.Number)], [.. settings, Avoiding(anew), .. onwards, .. Ending(onwards[^1].Number)]);

        // What comes once it is checked stays as it was asked for.
        IEnumerable<Step> Ending(int check)
        {
            if (!open)
            {
                return [];
            }

            var was = run.Plan.Steps.Last(s => s.Kind == "check").Number;
            var by = check - was;
            return run.Plan.Steps.Where(s => s.Number > was).Select(s => s with
            {
                Number = s.Number + by,
                After = [.. s.After.Select(a => a >= was ? a + by : a)],
                Only = s.Only is { } only ? only with { Hold = only.Hold + by } : null,
                Reopens = s.Reopens + by,
            });
        }

        Step Avoiding(Step s) => s with { Work = RunJson.Write(WorkOf(s) with { Avoids = [new Piece(avoids.Set.Value, avoids.Store.Value, 0)] }) };

        static IEnumerable<string> SetsOf(Step s) => WorkOf(s).Pieces.Select(p => p.Set);
    }

    /// <summary>Carries a step out.</summary>
    /// <param name="step">The step; none that people or the end of a run complete.</param>
    /// <param name="driver">The driver.</param>
    /// <param name="call">Who calls.</param>
    /// <param name="instance">The instance.</param>
    /// <param name="wanted">The instant to check against.</param>
    /// <param name="wish">What checks are wanted; null for all.</param>
    /// <param name="progress">Told how far it is, 0 to 1.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">The driver refuses, or cannot.</exception>
    public static async Task<Measured> DoAsync(
        Step step, IRestoreDriver driver, RunCall call, InstanceSpec instance, Instant wanted, CheckWish? wish, Action<double> progress, CancellationToken cancel)
    {
        var work = WorkOf(step);
        switch (step.Kind)
        {
            case "provision":
                return Of(await driver.ProvisionAsync(call, instance, cancel));
            case "again":
                return Of(await driver.EmptyAsync(call, instance, cancel));
            case "restore":
                return Of(await driver.RestoreSetAsync(call, instance, Copy(work.Pieces[0]), cancel));
            case "logs":
                return Of(await driver.ApplyLogsAsync(
                    call, instance, [.. work.Pieces.Select(Copy)], work.StopAt is { } t ? new LogStop(Instants.Parse(t), work.StopBefore) : null, n => progress((double)n / work.Pieces.Count), cancel));
            case "open":
                return Of(await driver.OpenAsync(call, instance, cancel));
            case "check":
                return new Measured(0, 0, Checks: await driver.CheckAsync(call, instance, wanted, wish, cancel));
            case "release":
                return Of(await driver.ReleaseAsync(call, instance, cancel));
            case "discard":
                await driver.DiscardAsync(call, instance, cancel);
                return new Measured(0, 0);
            case NeededSetting.Set or NeededSetting.SetBack:
                await NeededSetting.DoAsync(step, driver, call, Instant.MaxValue, cancel);
                return new Measured(0, 0);
            default:
                throw new InvalidOperationException($"a restore aside has no step '{step.Kind}'");
        }

        static SetCopy Copy(Piece p) => new(new(p.Set), new(p.Store));
    }

    /// <summary>The same steps, checked for so long at most.</summary>
    /// <param name="steps">The steps.</param>
    /// <param name="withinSeconds">How long; null for as long as it needs.</param>
    public static IReadOnlyList<Step> CheckedWithin(IReadOnlyList<Step> steps, double? withinSeconds) => withinSeconds is not { } most
        ? steps
        : [.. steps.Select(s => s.Kind == "check" ? s with { Title = $"{s.Title}, for {PlainDuration.Of(most)} at most", ExpectedSeconds = Math.Min(s.ExpectedSeconds ?? most, most) } : s)];

    /// <summary>What a step measured, as it is kept.</summary>
    public static string Write(Measured measured) => RunJson.Write(measured);

    /// <summary>What steps measured, in the order of the plan; those that were taken back are left out.</summary>
    public static IEnumerable<(Step Step, Measured Measured)> MeasuredBy(Run run) =>
        from s in run.Plan.Steps
        let p = run[s.Number]
        where p.Measured is not null
        select (s, RunJson.Read<Measured>(p.Measured!));

    /// <summary>The copies that a step reads.</summary>
    public static IReadOnlyList<Piece> PiecesOf(Step step) => WorkOf(step).Pieces;

    /// <summary>The copies on which a run has failed so far, as set and store.</summary>
    public static IReadOnlyList<(string Set, string Store)> CopiesThatFailed(Run run) => [.. run.Plan.Steps.SelectMany(s => WorkOf(s).Avoids ?? []).Select(p => (p.Set, p.Store)).Distinct()];

    private static Work WorkOf(Step step) => step.Work != "{}" && step.Kind is ("restore" or "logs" or "open" or "again") ? RunJson.Read<Work>(step.Work) : new Work([], null);

    private static Measured Of(Moved m) => new(m.Seconds, m.Bytes, m.Reached is { } r ? Instants.Write(r) : null, m.Position);

    /// <summary>The longest a step may take that is expected to take so long, seconds.</summary>
    internal static double Limit(double seconds) => Math.Max(ShortestLimitSeconds, LimitFactor * seconds);

    private static IEnumerable<Step> Onwards(Database database, RestorePath path, int ground, int number, HashSet<string> done, IReadOnlyList<NeededSetting> set, long? before, bool mounted = false, bool open = true)
    {
        foreach (var s in path.Steps.Where(s => s.Kind != SetKind.Log && !done.Contains(s.Set.Value)))
        {
            yield return Next("restore", mounted ? $"Open {s.Kind.ToString().ToLowerInvariant()} {s.Set} where it lies, in {s.Store}" : $"Restore {s.Kind.ToString().ToLowerInvariant()} {s.Set} from {s.Store}", s.Seconds, new Work([Cut(s)], null), s.Learned is null ? "profile" : "learned");
        }

        if (path.Steps.Where(s => s.Kind == SetKind.Log).ToArray() is { Length: > 0 } logs)
        {
            yield return Next(
                "logs",
                $"Apply {logs.Length} log {(logs.Length == 1 ? "set" : "sets")} up to {Instants.Write(path.Reaches)}",
                logs.Sum(l => l.Seconds),
                new Work([.. logs.Select(Cut)], Instants.Write(logs[^1].StopsAt ?? path.Reaches), StopBefore: before),
                path.UsesLearned ? "learned" : "profile");
        }

        foreach (var setting in set)
        {
            yield return setting.ToSetBack(number, ground);
            ground = number++;
        }

        if (!open)
        {
            yield break;
        }

        yield return Next("open", "Open it for those who check it, and for nobody else", path.OpenSeconds);
        yield return Next("check", "Check digest, rows and markers", database.CheckSeconds, from: "fleet");

        Step Next(string kind, string title, double seconds, Work? work = null, string from = "profile")
        {
            var step = new Step
            {
                Number = number++,
                Kind = kind,
                Title = title,
                Subject = path.Host.Value,
                After = ground == 0 ? [] : [ground],
                ExpectedSeconds = seconds,
                ExpectedFrom = from,
                TimeLimitSeconds = Limit(seconds),
                Undo = kind == "check" ? Undo.Nothing : Undo.Covered,
                Attempts = 3,
                BackOffSeconds = 5,
                Work = work is null ? "{}" : RunJson.Write(work),
            };
            ground = step.Number;
            return step;
        }

        static Piece Cut(PathStep s) => new(s.Set.Value, s.Store.Value, s.Learned is { } l ? s.Seconds / l.Median : s.Seconds);
    }
}
