using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>
/// Finds restore paths by sets (section 4): among all chains of available sets whose copies the host can reach, the one that reaches
/// latest and, among those, is fastest. One shortest-path pass over the lineage, whose order is already topological.
/// </summary>
public sealed class PathFinder
{
    private const int MaxBasesTried = 8;

    private readonly RecoverySubject subject;
    private readonly PathQuestion question;
    private readonly Loss loss;
    private readonly Host host;
    private readonly EngineProfile engine;
    private readonly Lineage lineage;
    private readonly DatabaseCatalogue c;
    private readonly Availability availability;
    private readonly long target;
    private readonly long at;
    private readonly double writeRate;

    /// <summary>Whether bases are opened where they lie.</summary>
    private readonly bool mounted;
    private readonly double[] fetchRate;
    private readonly bool[] sameArray;
    private readonly LearnedPace?[] pace;

    /// <summary>A state that is there already, on which log alone is applied; null when a base is restored first. Its position is known where an idle log (which ends where it starts) covers its instant.</summary>
    private readonly (int Branch, long Time, long? Position)? ground;

    /// <summary>Stands for the ground, where a node is expected.</summary>
    private const int Ground = -2;

    private PathFinder(RecoverySubject subject, PathQuestion question, Loss loss, Host host, (int Branch, long Time)? ground = null)
    {
        this.subject = subject;
        this.question = question;
        this.loss = loss;
        this.host = host;
        engine = subject.Fleet.Engines[subject.Database.Engine];
        mounted = Mounts(subject, question);
        lineage = subject.Lineage;
        c = lineage.Catalogue;
        this.ground = ground is var (branch, time) ? (branch, time, IdleAt(branch, time)) : null;
        availability = new Availability(subject, loss);
        target = question.Target.ToUnixTimeMilliseconds();
        at = question.At.ToUnixTimeMilliseconds();
        writeRate = Math.Min(host.WriteBytesPerSecond, engine.RestoreBytesPerSecond);
        fetchRate = new double[c.Stores.Count];
        sameArray = new bool[c.Stores.Count];
        pace = new LearnedPace?[c.Stores.Count];
        for (var i = 0; i < fetchRate.Length; i++)
        {
            var store = subject.Fleet.Stores[c.Stores[i]];
            var link = subject.Fleet.LinkBetween(store.Site, host.Site);
            fetchRate[i] = store.Site == host.Site ? store.ReadBytesPerSecond
                : link is null ? 0
                : Math.Min(store.ReadBytesPerSecond, link.BytesPerSecond);
            sameArray[i] = store.Array is { } a && host.Array == a;
            pace[i] = question.Learned?.Invoke(store.Id, host.Id);
        }
    }

    /// <summary>The best path, or the reason why there is none.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="question">What is asked.</param>
    /// <param name="alternatives">How many alternatives to list at most; 0 for the best path alone.</param>
    /// <exception cref="ArgumentException">The target lies after the as-of instant.</exception>
    public static PathAnswer<RestorePath> Find(RecoverySubject subject, PathQuestion question, int alternatives = 0)
    {
        if (question.Target > question.At)
        {
            throw new ArgumentException($"the target ({question.Target}) is after the as-of instant ({question.At})", nameof(question));
        }

        var (loss, mounted) = (question.Loss.For(subject.Database, subject.Fleet), Mounts(subject, question));
        var host = question.Choice.Host is { } named ? subject.Fleet.Hosts[named] : HostQualification.Default(subject.Fleet, subject.Database, loss, mounted);
        if (host is null)
        {
            var reasons = subject.Database.RecoveryHosts
                .Select(h => HostQualification.WhyNot(subject.Fleet, subject.Database, subject.Fleet.Hosts[h], loss, mounted));
            return new PathAnswer<RestorePath>(null, null, [], subject.Database.RecoveryHosts.Count == 0
                ? "no recovery host is named for this database"
                : $"no recovery host qualifies: {string.Join("; ", reasons)}");
        }

        if (HostQualification.WhyNot(subject.Fleet, subject.Database, host, loss, mounted) is { } unfit)
        {
            return new PathAnswer<RestorePath>(null, null, [], unfit);
        }

        var finder = new PathFinder(subject, question, loss, host);
        var best = finder.Best(question.Choice);
        if (best is null)
        {
            return new PathAnswer<RestorePath>(host.Id, null, [], finder.WhyNone());
        }

        return new PathAnswer<RestorePath>(host.Id, best, alternatives > 0 ? finder.Others(best, alternatives) : [], null);
    }

    /// <summary>The best path to a host, whether that qualifies or not, to a state that log can be applied to and that is not opened; null when there is none.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="at">The instant that is both target and as of.</param>
    /// <param name="host">The host.</param>
    public static RestorePath? Unopened(RecoverySubject subject, Instant at, Host host) =>
        new PathFinder(subject, new PathQuestion { Target = at, At = at, Unopened = true }, Loss.None, host).Best(new PathChoice());

    /// <summary>The log that brings a state that is there already as far as it goes; null when none applies to it.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="at">As of this instant.</param>
    /// <param name="host">Where the state is.</param>
    /// <param name="branch">The branch of the state.</param>
    /// <param name="time">Its instant. Its position is that of the log that covers the instant.</param>
    /// <param name="target">Up to which instant; null for as far as it goes.</param>
    public static RestorePath? Onwards(RecoverySubject subject, Instant at, Host host, int branch, Instant time, Instant? target = null) =>
        new PathFinder(subject, new PathQuestion { Target = target ?? at, At = at, Unopened = true }, Loss.None, host, (branch, time.ToUnixTimeMilliseconds())).Best(new PathChoice());

    /// <summary>Whether what is asked may be, and can be, opened where it lies.</summary>
    private static bool Mounts(RecoverySubject subject, PathQuestion question) => question.Mounted && subject.Fleet.Engines[subject.Database.Engine].MountsSets;

    private IReadOnlyList<RestorePath> Others(RestorePath best, int count)
    {
        var found = new List<RestorePath>();
        var chosen = question.Choice;
        if (chosen.Base is not null || chosen.Without is not null)
        {
            Consider(Best(chosen with { Base = null, Without = null }));
        }

        var bases = Enumerable.Range(0, c.Count)
            .Where(i => c.Kinds[i] != SetKind.Log && c.CoversTo[i] <= target)
            .OrderByDescending(i => c.CoversTo[i]).Take(MaxBasesTried);
        foreach (var one in bases)
        {
            Consider(Best(chosen with { Base = c.IdOf(one) }));
        }

        foreach (var store in best.Steps.Select(s => s.Store).Distinct())
        {
            Consider(Best(chosen with { Without = store }));
        }

        if (chosen.Host is null)
        {
            foreach (var other in subject.Database.RecoveryHosts.Where(h => h != host.Id).Select(h => subject.Fleet.Hosts[h]))
            {
                if (HostQualification.WhyNot(subject.Fleet, subject.Database, other, loss, mounted) is null)
                {
                    Consider(new PathFinder(subject, question, loss, other).Best(chosen with { Host = other.Id }));
                }
            }
        }

        return [.. found.OrderByDescending(p => p.Reaches).ThenBy(p => p.Seconds).Take(count)];

        void Consider(RestorePath? path)
        {
            if (path is not null && !Same(path, best) && !found.Exists(p => Same(p, path)))
            {
                found.Add(path);
            }
        }

        // Distinct: another base, another store, or another host.
        static bool Same(RestorePath a, RestorePath b) =>
            a.Host == b.Host && a.Onto.Set == b.Onto.Set
            && a.Steps.Select(s => s.Store).ToHashSet().SetEquals(b.Steps.Select(s => s.Store));
    }

    /// <summary>A choice, its base by its place.</summary>
    private readonly record struct Restriction(int? OnlyBase, Id<Store>? Without);

    private RestorePath? Best(PathChoice choice)
    {
        var n = lineage.Count;
        var restriction = new Restriction(choice.Base is { } wanted ? c.IndexOf(wanted) : null, choice.Without);
        var seconds = new double[n];
        var before = new int[n];
        var bases = new double[c.Count];
        Array.Fill(seconds, double.PositiveInfinity);
        var (reach, cost, last, lastSource, lastStop) = (long.MinValue, double.PositiveInfinity, -1, -1, 0L);
        for (var k = 0; k < n; k++)
        {
            var node = lineage.Order is null ? k : lineage.Order[k];
            var set = lineage.SetOf(node);
            before[node] = -1;
            if (!AllowedOn(set))
            {
                continue;
            }

            if (c.Kinds[set] != SetKind.Log)
            {
                if (ground is not null)
                {
                    seconds[node] = double.PositiveInfinity;
                    continue;
                }

                // Even when its parent stands later in the order, as a differential's may.
                var own = BaseSeconds(set, restriction, bases);
                seconds[node] = restriction.OnlyBase is { } only && node != only ? double.PositiveInfinity : own;
                if (c.CoversTo[set] <= target && Answers(set))
                {
                    Candidate(c.CoversTo[set], seconds[node], node, -1, 0);
                }

                continue;
            }

            var sources = lineage.SourcesOf(node);
            for (var i = OnGround(set) ? -1 : 0; i < sources.Length; i++)
            {
                var source = i < 0 ? Ground : sources[i];
                var sofar = i < 0 ? 0 : seconds[source];
                if (double.IsPositiveInfinity(sofar))
                {
                    continue;
                }

                var time = TimeOf(source);
                var stop = lineage.IsForkStop(node) ? Math.Max(time, lineage.ForkAt(node)) : Math.Min(target, c.CoversTo[set]);
                var total = sofar + SetSeconds(set, Fraction(set, time, stop), restriction, out _);
                if (total < seconds[node])
                {
                    seconds[node] = total;
                    before[node] = source;
                }

                if (!lineage.IsForkStop(node) && Math.Max(time, lineage.StartOfBranch(set)) <= stop && Answers(set))
                {
                    Candidate(stop, total, node, source, stop);
                }
            }
        }

        foreach (var start in lineage.Starts)
        {
            foreach (var node in start.Nodes)
            {
                if (start.StartsAt <= target && question.Branch is null)
                {
                    Candidate(start.StartsAt, seconds[node], node, before[node], lineage.IsForkStop(node) ? lineage.TimeOf(node) : 0);
                }
            }
        }

        return last < 0 ? null : Trace(choice, restriction, before, reach, last, lastSource, lastStop);

        void Candidate(long reaches, double total, int node, int source, long stop)
        {
            if (!double.IsPositiveInfinity(total) && (reaches > reach || (reaches == reach && total < cost)))
            {
                (reach, cost, last, lastSource, lastStop) = (reaches, total, node, source, stop);
            }
        }
    }

    private RestorePath Trace(PathChoice choice, Restriction restriction, int[] before, long reach, int last, int lastSource, long lastStop)
    {
        var (steps, stops) = (new List<(int Set, int Store, double Seconds)>(), new List<(int BeforeLast, long At)>());
        var node = last;
        for (var source = lastSource; ; source = before[node])
        {
            var set = lineage.SetOf(node);
            if (c.Kinds[set] != SetKind.Log)
            {
                for (var part = set; part >= 0; part = c.Parents[part])
                {
                    var whole = SetSeconds(part, 1, restriction, out var from);
                    steps.Add((part, from, whole));
                }

                break;
            }

            var time = TimeOf(source);
            var fork = lineage.IsForkStop(node);
            var stop = fork ? Math.Max(time, lineage.ForkAt(node)) : Math.Min(target, c.CoversTo[set]);
            var seconds = SetSeconds(set, Fraction(set, time, stop), restriction, out var store);
            if (fork || (node == last && lastStop != 0))
            {
                stops.Add((steps.Count, stop));
            }

            steps.Add((set, store, seconds));
            if (source == Ground)
            {
                break;
            }

            node = source;
        }

        steps.Reverse();
        var (provision, open) = ground is null ? (engine.ProvisionSeconds, engine.OpenSeconds) : (0, 0);
        var total = provision + steps.Sum(s => s.Seconds) + open;
        var reaches = Instant.FromUnixTimeMilliseconds(reach);
        return new RestorePath(
            host.Id,
            reaches,
            (Instant.FromUnixTimeMilliseconds(target) - reaches).TotalSeconds,
            total,
            subject.Database.ServiceSeconds(total),
            provision,
            open,
            new Steps(c, pace, [.. steps], [.. stops]),
            choice)
        {
            UsesLearned = steps.Exists(s => pace[s.Store] is not null),
            Needs = engine.LoadNeeds.Count > 0 && c.Kinds[steps[0].Set] == SetKind.Export ? NeededSetting.Of(host, engine.LoadNeeds) : [],
        };
    }

    /// <summary>
    /// The steps of a path as columns; one is put together when somebody looks at it. Of most paths only the seconds are asked for, and a fleet keeps
    /// tens of thousands, each with hundreds of steps.
    /// </summary>
    private sealed class Steps(DatabaseCatalogue c, LearnedPace?[] pace, (int Set, int Store, double Seconds)[] steps, (int BeforeLast, long At)[] stops) : IReadOnlyList<PathStep>
    {
        public int Count => steps.Length;

        public PathStep this[int index]
        {
            get
            {
                var (set, store, seconds) = steps[index];
                var stop = Array.FindIndex(stops, s => s.BeforeLast == steps.Length - 1 - index);
                var copy = Enumerable.Range(c.CopyStart(set), c.CopyEnds[set] - c.CopyStart(set)).First(i => c.CopyStores[i] == store);
                return new PathStep(c.IdOf(set), c.Kinds[set], c.Stores[store], seconds, stop < 0 ? null : Instant.FromUnixTimeMilliseconds(stops[stop].At), pace[store]) { StoredBytes = c.StoredBytes[copy] };
            }
        }

        public IEnumerator<PathStep> GetEnumerator()
        {
            for (var i = 0; i < steps.Length; i++)
            {
                yield return this[i];
            }
        }

        System.Collections.IEnumerator System.Collections.IEnumerable.GetEnumerator() => GetEnumerator();
    }

    private long TimeOf(int source) => source == Ground ? ground!.Value.Time : lineage.TimeOf(source);

    /// <summary>
    /// Whether a log applies to the ground: the one that covers its instant does, and, where nothing was written in that, every one that goes on from its position. The lineage passes idle logs over, for whatever they apply to
    /// the next applies to as well; but the ground may lie within one.
    /// </summary>
    private bool OnGround(int set) => ground is { } there && c.Branches[set] == there.Branch && there.Time < c.CoversTo[set]
        && (c.CoversFrom[set] <= there.Time || (there.Position is { } position && c.FromPositions[set] <= position && position <= c.ToPositions[set]));

    /// <summary>The position at an instant that an idle log covers; null when none does.</summary>
    private long? IdleAt(int branch, long time)
    {
        for (var i = 0; i < c.Count; i++)
        {
            if (c.Branches[i] == branch && c.IsIdle(i) && c.CoversFrom[i] <= time && time < c.CoversTo[i])
            {
                return c.ToPositions[i];
            }
        }

        return null;
    }

    private bool Answers(int set) => (question.Branch is not { } wanted || c.Branches[set] == wanted) && (!question.Unopened || lineage.AcceptsLog(set));

    private bool AllowedOn(int set)
    {
        if (!c.HasUsableOn)
        {
            return true;
        }

        var hosts = c.UsableOn(set);
        return hosts.Count == 0 || hosts.Contains(host.Id);
    }

    /// <summary>Seconds to restore a base with all it builds on; infinite when that cannot be.</summary>
    /// <param name="set">The base.</param>
    /// <param name="restriction">What is left out.</param>
    /// <param name="known">Those worked out so far, by set; 0 where not.</param>
    private double BaseSeconds(int set, Restriction restriction, double[] known)
    {
        var parts = new Stack<int>();
        var at = set;
        for (; at >= 0 && known[at] == 0; at = c.Parents[at])
        {
            parts.Push(at);
        }

        var total = at >= 0 ? known[at] : at == DatabaseCatalogue.NoParent ? 0 : double.PositiveInfinity;
        while (parts.TryPop(out var part))
        {
            total = known[part] = AllowedOn(part) ? total + SetSeconds(part, 1, restriction, out _) : double.PositiveInfinity;
        }

        return total;
    }

    /// <summary>The part of a log that is replayed, applied to a state at <paramref name="time"/> and stopped at <paramref name="stop"/>.</summary>
    private double Fraction(int log, long time, long stop)
    {
        var whole = c.CoversTo[log] - c.CoversFrom[log];
        return whole == 0 ? 1 : Math.Clamp((stop - Math.Max(time, c.CoversFrom[log])) / (double)whole, 0, 1);
    }

    /// <summary>Seconds to restore one set from its fastest usable copy within reach; infinite when there is none.</summary>
    private double SetSeconds(int set, double fraction, Restriction restriction, out int store)
    {
        var best = double.PositiveInfinity;
        store = -1;
        for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
        {
            var from = c.CopyStores[copy];
            if (fetchRate[from] <= 0 || (restriction.Without is { } left && c.Stores[from] == left) || !availability.CopyUsableAt(copy, at)
                || (question.Except is { } except && except(c.IdOf(set), c.Stores[from])))
            {
                continue;
            }

            if (mounted && c.Kinds[set] != SetKind.Log)
            {
                // What is out of reach of credentials is not opened by an engine, and an export is no database until it is loaded.
                if (c.Kinds[set] != SetKind.Export && !subject.Fleet.Stores[c.Stores[from]].Offline && engine.PerSetSeconds < best)
                {
                    (best, store) = (engine.PerSetSeconds, from);
                }

                continue;
            }

            var fetch = c.StoredBytes[copy] / fetchRate[from];
            var seconds = engine.PerSetSeconds + c.Kinds[set] switch
            {
                SetKind.Log => Math.Max(fetch, fraction * c.DataBytes[set] / engine.ReplayBytesPerSecond),
                SetKind.Snapshot when sameArray[from] => 0,
                SetKind.Export => engine.LoadSeconds(c.DataBytes[set], fetch, writeRate),
                _ => Math.Max(fetch, c.DataBytes[set] / writeRate),
            };
            if (pace[from] is { } learned)
            {
                seconds *= question.Cautious ? learned.Cautious : learned.Median;
            }

            if (seconds < best)
            {
                (best, store) = (seconds, from);
            }
        }

        return best;
    }

    private string WhyNone()
    {
        if (c.Count == 0)
        {
            return "there are no backup sets of this database";
        }

        var (onto, without) = (question.Choice.Base, question.Choice.Without);
        var bases = Enumerable.Range(0, c.Count).Where(i => c.Kinds[i] != SetKind.Log && (onto is not { } one || c.IdOf(i) == one)).ToArray();
        if (onto is not null && bases.Length == 0)
        {
            return $"{onto} is no set that log could be applied to";
        }

        if (bases.Length == 0)
        {
            return "there is log but no base (full, snapshot or export) to apply it to";
        }

        var early = bases.Where(i => c.CoversTo[i] <= target).ToArray();
        if (early.Length == 0)
        {
            return onto is null ? "every base is of an instant after the target" : $"{onto} is of an instant after the target";
        }

        var outside = without is null ? "" : $" outside {without}";

        var notes = early.OrderByDescending(i => c.CoversTo[i]).Take(3)
            .Select(i => $"{c.IdOf(i)}: {(AllowedOn(i) ? CoverExplainer.WhyUnusable(subject, availability, loss, i, question.At) ?? $"no copy within reach of the host{outside}" : "cannot be used on this host")}");
        return $"no base can be read at host {host.Id} ({string.Join("; ", notes)})";
    }
}
