using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>
/// Designed figures (section 5): plans run through the prediction as if they had always been in force, and the catalogue that comes of it
/// through the one evaluator, over a week. Everything that shares hosts, stores and links is simulated; figures are evaluated for the
/// databases asked for.
/// </summary>
public static class Designer
{
    /// <summary>The span that designed figures look at.</summary>
    public static readonly Duration Span = Duration.FromDays(7);

    private static readonly Duration LongestWarmUp = Duration.FromDays(36);
    private static readonly Duration ShortestWarmUp = Duration.FromDays(2);

    /// <summary>Figures of some databases.</summary>
    /// <param name="question">What is asked.</param>
    /// <returns>By database, for every loss its objective names (for none without one); and the prediction's own figures over the week.</returns>
    public static DesignAnswer Design(DesignQuestion question)
    {
        var (fleet, from) = (question.Fleet, question.From);
        var to = from + Span;
        var wanted = question.Databases.Select(d => d.Id).ToHashSet();
        var always = InForceBefore(question.Series, from);
        var bases = BasesBefore(always, from);
        var begin = WarmUpFrom(always, from);

        // Log backups neither wait nor make others wait: those of databases nobody asks about can be left out, unless curves are wanted.
        Series[] series = [.. always.Where(s => question.Curves || s.Task.Kind != TaskKind.Log || wanted.Contains(s.Database.Id))];
        var sink = new PredictedCatalogue(series, wanted.Contains);
        var prediction = Prediction.Run(
            new PredictionInput
            {
                Fleet = fleet,
                Series = series,
                From = begin,
                To = to,
                ClashesFrom = from,
                LoadOf = question.LoadOf,
                LogsFrom = d => bases.TryGetValue(d, out var b) ? Instant.FromUnixTimeMilliseconds(b) : from - Duration.FromDays(1),
                PaceOf = question.PaceOf,
                Chance = question.Chance,
                Curves = question.Curves,
                Cancel = question.Cancel,
            },
            sink);
        var answers = new Dictionary<Id<Database>, IReadOnlyList<DesignedFigures>>();
        var subjects = new Dictionary<Id<Database>, RecoverySubject>();
        Parallel.ForEach(question.Databases, new ParallelOptions { CancellationToken = question.Cancel, MaxDegreeOfParallelism = question.Threads }, d =>
        {
            var subject = RecoverySubject.Of(fleet, d, sink.Of(d.Id).WithLag(ByDesign.Lag(fleet, d, from, to)));
            var kinds = subject.Objective?.Against ?? [LossKind.None];
            var figures = new List<DesignedFigures>();
            foreach (var kind in kinds)
            {
                figures.Add(FiguresOf(subject, Loss.OfKind(kind), from, to, figures, question.WithRestore));
            }

            question.Made?.Invoke(subject, figures);
            lock (answers)
            {
                answers[d.Id] = figures;
                subjects[d.Id] = subject;
            }
        });
        return new DesignAnswer(begin, from, to, answers, subjects, prediction);
    }

    /// <summary>Figures of one database for one loss, from the sets that will be there.</summary>
    /// <param name="subject">The database with its predicted sets, as <see cref="DesignAnswer.Subjects"/> holds them.</param>
    /// <param name="loss">The loss.</param>
    /// <param name="from">Where the week begins.</param>
    /// <param name="to">Where it ends.</param>
    /// <param name="known">Figures made of the same before: a loss that leaves what one of theirs leaves comes to the same, but for the words in which there is no path.</param>
    /// <param name="withRestore">Whether restore paths are looked for.</param>
    public static DesignedFigures FiguresOf(RecoverySubject subject, Loss loss, Instant from, Instant to, IReadOnlyList<DesignedFigures> known, bool withRestore = true)
    {
        var resolved = loss.For(subject.Database, subject.Fleet);
        if (Survival.Of(subject, resolved) is { } left && known.FirstOrDefault(k => k.NoPath is null && Survival.Of(subject, k.Loss) == left) is { } same)
        {
            return same with { Loss = resolved };
        }

        var window = Evaluator.Over(subject, resolved, from, to);
        if (!withRestore)
        {
            return new DesignedFigures(resolved, window, null, null);
        }

        WayBack? longest = null;
        foreach (var at in WorstInstants(subject, resolved, from, to))
        {
            var answer = WayFinder.Find(subject, new PathQuestion { Target = at, At = at, Loss = resolved });
            if (answer.Best is null)
            {
                return new DesignedFigures(resolved, window, null, answer.Reason);
            }

            longest = longest is null || answer.Best.Seconds > longest.Seconds ? answer.Best : longest;
        }

        return new DesignedFigures(resolved, window, longest, null);
    }

    /// <summary>A restore takes longest just before a state cuts off the most that would have to be applied: those instants, and the end.</summary>
    private static IEnumerable<Instant> WorstInstants(RecoverySubject subject, Loss loss, Instant from, Instant to)
    {
        var c = subject.Catalogue;
        var availability = new Availability(subject, loss);
        var (first, last) = (from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds());
        var found = new List<(double Bytes, long At)>();
        double since = 0, chain = 0;
        for (var i = 0; i < c.Count; i++)
        {
            if (FirstUsable(i) is not { } available)
            {
                // No copy of it outlives the loss.
                continue;
            }

            if (c.Kinds[i] == SetKind.Log)
            {
                since += c.DataBytes[i];
                continue;
            }

            if (available > first && available < last)
            {
                found.Add((since + chain, available - 1));
            }

            chain = c.Kinds[i] switch { SetKind.Differential => c.DataBytes[i], SetKind.Incremental => chain + c.DataBytes[i], _ => 0 };
            since = 0;
        }

        found.Add((since + chain, last));
        return found.OrderByDescending(f => f.Bytes).Take(2).Select(f => Instant.FromUnixTimeMilliseconds(f.At));

        long? FirstUsable(int set)
        {
            long? earliest = null;
            for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
            {
                if (availability.SpanOf(copy, out var span) && !(span.From >= earliest))
                {
                    earliest = span.From;
                }
            }

            return earliest;
        }
    }

    /// <summary>The same series as if their plans had always been in force: a plan made today is judged by what it does, not by its first week.</summary>
    private static IReadOnlyList<Series> InForceBefore(IReadOnlyList<Series> series, Instant from)
    {
        var since = from - LongestWarmUp;
        var tasks = new Dictionary<PlanTask, PlanTask>(ReferenceEqualityComparer.Instance);
        return [.. series.Select(s =>
        {
            if (!tasks.TryGetValue(s.Task, out var task))
            {
                tasks[s.Task] = task = s.Task.Recurrence is { } r && r.InForceSince(since) is var earlier && !ReferenceEquals(earlier, r) ? s.Task with { Recurrence = earlier } : s.Task;
            }

            return ReferenceEquals(task, s.Task) ? s : s with { Task = task };
        })];
    }

    /// <summary>How far before the window things must begin: by the longest time between two bases on which others build.</summary>
    private static Instant WarmUpFrom(IReadOnlyList<Series> series, Instant from)
    {
        var at = from.ToUnixTimeMilliseconds();
        var earliest = (from - ShortestWarmUp).ToUnixTimeMilliseconds();
        foreach (var s in series.Where(s => s.Task.Kind is TaskKind.Full or TaskKind.Snapshot or TaskKind.Export && s.Task.Recurrence is not null).DistinctBy(s => (s.Plan.Id, s.Task.Id)))
        {
            if (s.LastBefore(at - 43_200_000, (long)LongestWarmUp.TotalMilliseconds) is { } last)
            {
                earliest = Math.Min(earliest, last - 3_600_000);
            }
        }

        return Instant.FromUnixTimeMilliseconds(Math.Max(earliest, (from - LongestWarmUp).ToUnixTimeMilliseconds()));
    }

    /// <summary>
    /// For each database, the last state due well before the window: log before it cannot matter. Where log goes to several stores it is the
    /// earliest of what each of them last got, since one may be all that is left.
    /// </summary>
    private static Dictionary<Id<Database>, long> BasesBefore(IReadOnlyList<Series> series, Instant from)
    {
        var at = (from - Duration.FromHours(12)).ToUnixTimeMilliseconds();
        var inStore = new Dictionary<(Id<Database> Database, Id<Store> Store), long>();
        var known = new Dictionary<(Id<Plan>, string, Duration), long?>();
        foreach (var s in series.Where(s => s.Task.Kind.MakesState() && s.Task.Kind != TaskKind.Export && !s.Task.OutsideChain && s.Task.Recurrence is not null))
        {
            var key = (s.Plan.Id, s.Task.Id, s.Offset);
            if (!known.TryGetValue(key, out var last))
            {
                known[key] = last = s.LastBefore(at, (long)LongestWarmUp.TotalMilliseconds);
            }

            foreach (var store in last is null ? [] : s.Task.Stores)
            {
                inStore[(s.Database.Id, store)] = Math.Max(inStore.GetValueOrDefault((s.Database.Id, store), long.MinValue), last!.Value - 1000);
            }
        }

        // Log that goes where no state does is applied to whichever state is left.
        var anywhere = inStore.GroupBy(p => p.Key.Database).ToDictionary(g => g.Key, g => g.Min(p => p.Value));
        var bases = new Dictionary<Id<Database>, long>();
        foreach (var s in series.Where(s => s.Task.Kind == TaskKind.Log && anywhere.ContainsKey(s.Database.Id)))
        {
            foreach (var store in s.Task.Stores)
            {
                var last = inStore.GetValueOrDefault((s.Database.Id, store), anywhere[s.Database.Id]);
                bases[s.Database.Id] = Math.Min(bases.GetValueOrDefault(s.Database.Id, long.MaxValue), last);
            }
        }

        return bases;
    }
}
