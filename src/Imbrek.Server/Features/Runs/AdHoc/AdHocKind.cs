using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.AdHoc;

/// <summary>A copy taken now, this way, to there, whatever plans say: what the account sees is listed first; afterwards it is read back, and looked at whether it is as large as such copies are. It stands outside the chain.</summary>
internal sealed class AdHocKind(Drivers drivers, FleetState fleet) : IRunKind
{
    public const string KindName = "ad-hoc";

    /// <summary>A copy is plausible when it stores between a third of what others of its kind stored in the middle, and three times that.</summary>
    private const double Plausible = 3;

    /// <summary>So many of the others are looked at.</summary>
    private const int Others = 9;

    /// <summary>What was asked.</summary>
    /// <param name="Take">What is taken.</param>
    /// <param name="Why">What for; null when nobody said.</param>
    public sealed record Question(TakeSpec Take, string? Why);

    /// <inheritdoc/>
    public IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>Its steps.</summary>
    public static Run Plan(TakeSpec take, double? seconds)
    {
        var kind = take.Kind.ToString().ToLowerInvariant();
        return Run.Of(new RunPlan(
        [
            Of(1, "see", "List what the account sees", null),
            Of(2, "take", $"Take {(kind[0] is 'a' or 'e' or 'i' ? "an" : "a")} {kind} outside the chain, into {take.Store}", seconds) with { Subject = take.Store, TimeLimitSeconds = 86_400 },
            Of(3, "read-back", "Read it back, and look whether it is as large as such copies are", null) with { Subject = take.Store, TimeLimitSeconds = 86_400 },
        ]));

        static Step Of(int number, string kind, string title, double? seconds) => new()
        {
            Number = number,
            Kind = kind,
            Title = title,
            After = number == 1 ? [] : [number - 1],
            ExpectedSeconds = seconds,
            ExpectedFrom = seconds is null ? null : "profile",
            TimeLimitSeconds = 600,
            Attempts = 2,
            BackOffSeconds = 5,
        };
    }

    /// <inheritdoc/>
    public async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var (driver, asked, database) = (drivers.Named(run.Row.Driver!).Backup, run.Question<Question>(), new Id<Core.Fleet.Database>(run.Row.Database));
        switch (step.Kind)
        {
            case "see":
                var seen = await driver.SeesAsync(database, cancel);
                var not = seen.Where(s => !s.Passed).ToArray();
                return new StepResult(not.Length == 0 ? $"sees all of {seen.Count}" : $"partial: does not see {string.Join("; ", not.Take(5).Select(n => $"{n.Name}: {n.Detail}"))}{(not.Length > 5 ? $" and {not.Length - 5} more" : "")}");
            case "take":
                var taken = await driver.TakeAsync(run.Call, asked.Take, cancel);
                return taken.Set is { } set
                    ? new StepResult(taken.Note, RunJson.Write(new TaskSteps.Measured(taken.Seconds, taken.Bytes, set.DataBytes, set.Id.Value)), Sets: [set])
                    : new StepResult(taken.Nothing ?? "nothing was taken", Failed: true);
            case "read-back":
                var made = TaskSteps.MeasuredBy(run.Run).First(m => m.Set is not null);
                var read = await driver.ReadBackAsync(run.Call.Part(1), database, [new SetCopy(new(made.Set!), new(asked.Take.Store))], cancel);
                var copies = read.SelectMany(r => r.Set?.Copies ?? []).Where(c => c.Store.Value == asked.Take.Store && c.RemovedAt is null).ToArray();
                var sets = read.Select(r => r.Set).OfType<BackupSet>().ToArray();
                if (copies.Length == 0 || copies.Any(c => c.State == CopyState.Damaged))
                {
                    return new StepResult(copies.Length == 0 ? "it is not there" : "it is damaged", Failed: true, Sets: sets);
                }

                var (usual, stored) = (Usual(database, asked.Take, made.Set!), copies.Max(c => c.StoredBytes));
                return usual is { } bytes && (stored < bytes / Plausible || stored > bytes * Plausible)
                    ? new StepResult($"it is there and whole, and stores {PlainBytes.Of(stored)} where {PlainBytes.Of(bytes)} are usual: look before you rely on it", Failed: true, Sets: sets)
                    : new StepResult($"it is there and whole: {PlainBytes.Of(stored)}{(usual is { } like ? $", as others of its kind ({PlainBytes.Of(like)})" : ", the first of its kind")}", Sets: sets);
            default:
                throw new InvalidOperationException(step.Kind);
        }
    }

    /// <inheritdoc/>
    public Tally TallyOf(RunContext run) => TaskSteps.TallyOf(run);

    /// <inheritdoc/>
    public Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var (asked, concluded) = (run.Question<Question>(), TaskSteps.Conclude(run, end));
        return concluded with
        {
            LedgerBody = RunJson.Write(new { run = run.Row.Id, outcome = PlanFile.Name(end.State), why = concluded.Note, begunBy = run.Row.AskedBy, reason = asked.Why, set = TaskSteps.TallyOf(run).Set, kind = asked.Take.Kind, store = asked.Take.Store, sees = run.Run[1].Note }),
        };
    }

    /// <summary>What others of its kind stored, the middle of the last few; null while there are none.</summary>
    private long? Usual(Id<Core.Fleet.Database> database, TakeSpec take, string own)
    {
        var c = fleet[database].Subject.Catalogue;
        var stored = new List<long>();
        for (var i = c.Count - 1; i >= 0 && stored.Count < Others; i--)
        {
            if (c[i] is var s && s.Kind == take.Kind && s.Id.Value != own && s.Copies.Count > 0)
            {
                stored.Add(s.Copies.Max(x => x.StoredBytes));
            }
        }

        stored.Sort();
        return stored.Count == 0 ? null : stored[stored.Count / 2];
    }
}
