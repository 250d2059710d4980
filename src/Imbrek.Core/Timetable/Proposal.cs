using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>
/// Other start times for the backups that take slots, so that fewer run at once and all end within their windows. Largest first, each is
/// put where the hosts, stores and links it uses are least taken (the sum of squares of what runs at once grows least); then the whole is
/// simulated, and moves of databases that would keep less than before are taken back until none does.
/// </summary>
/// <param name="Moves">What would start at another time.</param>
/// <param name="Forced">What cannot be moved, and the objective or window that forces it.</param>
/// <param name="Before">How the week is now.</param>
/// <param name="After">How it would be.</param>
public sealed record Proposal(IReadOnlyList<Proposal.Move> Moves, IReadOnlyList<Proposal.Stay> Forced, Proposal.Measure Before, Proposal.Measure After)
{
    private const long Step = 300_000;
    private const long Week = 7 * 86_400_000L;
    private const int Rounds = 6;
    private static readonly Duration Furthest = Duration.FromHours(6);

    /// <summary>One member's own start of one task.</summary>
    /// <param name="Plan">The plan.</param>
    /// <param name="Task">The task.</param>
    /// <param name="Database">The member.</param>
    /// <param name="From">How long after the task is due it starts now.</param>
    /// <param name="To">How long after it would start.</param>
    public sealed record Move(Id<Plan> Plan, string Task, Id<Database> Database, Duration From, Duration To);

    /// <summary>What stays, and why.</summary>
    public sealed record Stay(Id<Plan> Plan, string Task, Id<Database> Database, string Reason);

    /// <summary>How crowded a week is.</summary>
    /// <param name="MostAtOnce">The most backups that run at once on one host.</param>
    /// <param name="WindowsMissed">Runs that do not end within their window.</param>
    /// <param name="WaitingSeconds">Seconds that runs wait for a slot, all together.</param>
    /// <param name="Stretch">Seconds that runs take over the seconds they would take alone, mean.</param>
    /// <param name="LongestSeconds">The longest from being due to its end, seconds.</param>
    public sealed record Measure(int MostAtOnce, int WindowsMissed, double WaitingSeconds, double Stretch, double LongestSeconds);

    /// <summary>Makes a proposal.</summary>
    /// <param name="question">What runs; its databases are those whose objectives must be kept.</param>
    public static Proposal For(DesignQuestion question)
    {
        var watched = question with { Curves = false };
        var (before, kept, runs) = Simulate(watched);
        var chosen = Choose(question, runs, out var forced);
        for (var round = 0; ; round++)
        {
            var moved = question with { Series = With(question.Series, chosen) };
            var (after, keptAfter, _) = Simulate(moved);
            var worse = kept.Where(k => !keptAfter.Contains(k)).Select(k => k.Database).ToHashSet();
            if (worse.Count == 0 || round == Rounds || chosen.Count == 0)
            {
                // Never a constraint broken: what is not at least as good is not proposed.
                var better = worse.Count == 0 && after.WindowsMissed <= before.WindowsMissed
                    && (after.WindowsMissed, after.MostAtOnce, after.WaitingSeconds + after.Stretch).CompareTo((before.WindowsMissed, before.MostAtOnce, before.WaitingSeconds + before.Stretch)) < 0;
                return better
                    ? new Proposal([.. chosen.Select(c => new Move(c.Key.Plan, c.Key.Task, c.Key.Database, c.Value.From, c.Value.To))], forced, before, after)
                    : new Proposal([], forced, before, before);
            }

            foreach (var key in chosen.Keys.Where(k => worse.Contains(k.Database)).ToArray())
            {
                forced.Add(new Stay(key.Plan, key.Task, key.Database, $"later it would not keep its objective{(question.Fleet.ObjectiveOf(question.Fleet.DatabaseById[key.Database]) is { } o ? $" \"{o.Name}\"" : "")}"));
                chosen.Remove(key);
            }
        }
    }

    /// <summary>Plans with moves taken over: each becomes the member's own offset in the task.</summary>
    public static IReadOnlyList<Plan> Accept(IEnumerable<Plan> plans, IEnumerable<Move> moves)
    {
        var byTask = moves.ToLookup(m => (m.Plan, m.Task));
        return
        [
            .. plans.Select(p => p with
            {
                Tasks =
                [
                    .. p.Tasks.Select(t => byTask[(p.Id, t.Id)].Any()
                        ? t with { Offsets = t.Offsets.Where(o => byTask[(p.Id, t.Id)].All(m => m.Database.Value != o.Key)).Concat(byTask[(p.Id, t.Id)].Select(m => KeyValuePair.Create(m.Database.Value, m.To))).ToDictionary() }
                        : t),
                ],
            }),
        ];
    }

    /// <summary>How a week is, and which objectives are kept in it.</summary>
    /// <param name="Crowd">How crowded it is.</param>
    /// <param name="Kept">Objectives kept: database, loss, and whether recovery point (true) or time.</param>
    public sealed record WeekMeasure(Measure Crowd, IReadOnlySet<(Id<Database> Database, LossKind Kind, bool Rpo)> Kept)
    {
        /// <summary>What was kept before and is no longer.</summary>
        public IEnumerable<(Id<Database> Database, string Reason)> Broken(WeekMeasure before) => before.Kept.Where(k => !Kept.Contains(k))
            .Select(k => (k.Database, $"{(k.Rpo ? "recovery point" : "recovery time")} would no longer be kept, supposing {k.Kind.ToString().ToLowerInvariant()}"));
    }

    /// <summary>Simulates a week and measures it.</summary>
    public static WeekMeasure MeasureOf(DesignQuestion question)
    {
        var (measure, kept, _) = Simulate(question);
        return new WeekMeasure(measure, kept);
    }

    private sealed record Heavy(Series Series, List<long> Due, double Seconds, double StoredBytes);

    private readonly record struct Key(Id<Plan> Plan, string Task, Id<Database> Database);

    private sealed class Observer(IReadOnlyList<Series> series, long from) : IPredictionSink
    {
        public List<PredictedRun> Runs { get; } = [];

        public void Add(in PredictedRun run)
        {
            if (run.Due >= from && run.End == RunEnd.Done && series[run.Series].Task.Kind.TakesSlot())
            {
                Runs.Add(run);
            }
        }

        public void AddCopy(int series, long captured, int copier, long at)
        {
            // A copy made later takes no slot.
        }
    }

    private static (Measure Measure, HashSet<(Id<Database> Database, LossKind Kind, bool Rpo)> Kept, IReadOnlyList<Heavy> Runs) Simulate(DesignQuestion question)
    {
        var fleet = question.Fleet;
        var design = Designer.Design(question);
        var kept = new HashSet<(Id<Database>, LossKind, bool)>();
        foreach (var (id, figures) in design.ByDatabase)
        {
            if (fleet.ObjectiveOf(fleet.DatabaseById[id]) is { } objective)
            {
                foreach (var f in figures)
                {
                    if (f.KeepsRpo(objective))
                    {
                        kept.Add((id, f.Loss.Kind, true));
                    }

                    if (f.KeepsRto(objective))
                    {
                        kept.Add((id, f.Loss.Kind, false));
                    }
                }
            }
        }

        Series[] heavy = [.. question.Series.Where(s => s.Task.Kind != TaskKind.Log)];
        var observer = new Observer(heavy, question.From.ToUnixTimeMilliseconds());
        Prediction.Run(new PredictionInput { Fleet = fleet, Series = heavy, From = design.Begins, To = question.From + Designer.Span + Duration.FromHours(12), LoadOf = question.LoadOf, PaceOf = question.PaceOf }, observer);
        var groups = observer.Runs.GroupBy(r => r.Series).Select(g => new Heavy(heavy[g.Key], [.. g.Select(r => r.Due)], g.Max(r => RunPace.Alone(fleet, heavy[g.Key].Database, heavy[g.Key].Task, r.StoredBytes)), g.Max(r => r.StoredBytes))).ToArray();
        var missed = observer.Runs.Count(r => heavy[r.Series].Task.Window is { } w && r.Ended - r.Due > w.TotalMilliseconds);
        var most = 0;
        foreach (var host in observer.Runs.GroupBy(r => heavy[r.Series].Database.Host))
        {
            var running = 0;
            foreach (var (_, step) in host.SelectMany(r => new[] { (At: r.Started, Step: 1), (At: r.Available, Step: -1) }).OrderBy(e => e.At).ThenBy(e => e.Step))
            {
                running += step;
                most = Math.Max(most, running);
            }
        }

        var measure = new Measure(
            most,
            missed,
            observer.Runs.Sum(r => (r.Started - r.Due) / 1000.0),
            observer.Runs.Count == 0 ? 1 : observer.Runs.Average(r => Math.Max(1, (r.Ended - r.Started) / 1000.0 / RunPace.Alone(fleet, heavy[r.Series].Database, heavy[r.Series].Task, r.StoredBytes))),
            observer.Runs.Count == 0 ? 0 : observer.Runs.Max(r => (r.Ended - r.Due) / 1000.0));
        return (measure, kept, groups);
    }

    private static Dictionary<Key, (Duration From, Duration To)> Choose(DesignQuestion question, IReadOnlyList<Heavy> runs, out List<Stay> forced)
    {
        forced = [];
        var begin = question.From.ToUnixTimeMilliseconds();
        var taken = new Dictionary<string, double[]>();
        var chosen = new Dictionary<Key, (Duration, Duration)>();
        foreach (var run in runs.OrderByDescending(r => r.StoredBytes))
        {
            var (s, fleet) = (run.Series, question.Fleet);
            var key = new Key(s.Plan.Id, s.Task.Id, s.Database.Id);
            string[] uses = [Routes.Of(s.Database.Host), .. s.Task.Stores.Select(Routes.Of), .. s.Task.CopyTo.SelectMany(c => Routes.Between(fleet, s.Task.Store!.Value, c) ?? []).Where(n => n.StartsWith("link", StringComparison.Ordinal))];
            var slices = Math.Max(1, (int)Math.Ceiling(run.Seconds * 1000 / Step));
            var room = (s.Task.Window is { } w ? w - (Duration.FromSeconds(run.Seconds) * 1.3) : Furthest);
            room = Duration.Min(room, Duration.FromMilliseconds(NextDueAfter(run) / 2));
            var start = s.Offset;
            var (best, bestCost) = (start, Cost(start));
            if (room <= Duration.Zero)
            {
                forced.Add(new Stay(key.Plan, key.Task, key.Database, "by itself it takes nearly all of its window"));
            }

            for (var offset = Duration.Zero; offset <= room; offset += Duration.FromMilliseconds(Step))
            {
                var cost = Cost(offset);
                if (cost < bestCost * 0.999 || (start > room && best == start))
                {
                    (best, bestCost) = (offset, cost);
                }
            }

            foreach (var (curve, slice) in Taken(best))
            {
                curve[slice]++;
            }

            if (best != start)
            {
                chosen[key] = (start, best);
            }

            double Cost(Duration offset) => Taken(offset).Sum(t => (2 * t.Curve[t.Slice]) + 1);

            IEnumerable<(double[] Curve, int Slice)> Taken(Duration offset)
            {
                foreach (var use in uses.Distinct())
                {
                    if (!taken.TryGetValue(use, out var curve))
                    {
                        taken[use] = curve = new double[Week / Step];
                    }

                    foreach (var due in run.Due)
                    {
                        var first = (due - begin - (long)s.Offset.TotalMilliseconds + (long)offset.TotalMilliseconds) / Step;
                        for (var i = 0; i < slices; i++)
                        {
                            yield return (curve, (int)((((first + i) % curve.Length) + curve.Length) % curve.Length));
                        }
                    }
                }
            }
        }

        return chosen;
    }

    private static long NextDueAfter(Heavy run) => run.Due.Count < 2 ? Week : run.Due.Zip(run.Due.Skip(1), (a, b) => b - a).Min();

    private static Series[] With(IReadOnlyList<Series> series, Dictionary<Key, (Duration From, Duration To)> chosen) =>
        [.. series.Select(s => chosen.TryGetValue(new Key(s.Plan.Id, s.Task.Id, s.Database.Id), out var c) ? s with { Offset = c.To } : s)];
}
