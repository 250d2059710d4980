using System.Text;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Catalogue;

/// <summary>
/// All backup sets of one database, immutable, held as columns (about 80 bytes a set and 20 a plain copy) in the order of the
/// instants they cover to. Times inside are milliseconds of the Unix epoch: times compare at 1 ms (section 2, settled details).
/// </summary>
public sealed class DatabaseCatalogue
{
    /// <summary>Stands for an open end: "not removed", "not stated".</summary>
    internal const long Open = long.MaxValue;

    /// <summary>A parent that is named and not there: the set is never available.</summary>
    internal const int ParentMissing = -2;

    /// <summary>A parent that builds on the set itself: neither is ever available.</summary>
    internal const int ParentCircular = -3;

    /// <summary>The set names no parent.</summary>
    internal const int NoParent = -1;

    /// <summary>The most stores there can be: their number in a catalogue takes two bytes.</summary>
    public const int MostStores = ushort.MaxValue;

    internal readonly SetKind[] Kinds;
    internal readonly int[] Branches;

    /// <summary>For each set its parent's place, or one of <see cref="NoParent"/>, <see cref="ParentMissing"/>, <see cref="ParentCircular"/>: who follows parents always comes to an end.</summary>
    internal readonly int[] Parents;
    internal readonly long[] FromPositions;
    internal readonly long[] ToPositions;
    internal readonly long[] CoversFrom;
    internal readonly long[] CoversTo;
    internal readonly int[] CopyEnds;
    internal readonly ushort[] CopyStores;
    internal readonly CopyState[] CopyStates;
    internal readonly long[] AvailableAt;
    internal readonly long[] StoredBytes;
    internal readonly long[] DataBytes;

    /// <summary>Null when no copy of this database was ever removed, which saves eight bytes a copy.</summary>
    internal readonly long[]? RemovedAt;

    /// <summary>Null when no copy of this database is locked.</summary>
    internal readonly long[]? LockedUntil;

    private readonly byte[] flags;
    private readonly long[] finishedAt;
    private readonly byte[] idBytes;
    private readonly int[] idEnds;
    private readonly Dictionary<int, IReadOnlyList<Id<Host>>>? usableOn;
    private Dictionary<int, string>? missingParents;

    /// <summary>For each set its key. Null when no set is encrypted.</summary>
    private readonly string?[]? keys;

    /// <summary>Builds the columns of one database's sets.</summary>
    /// <param name="database">The database.</param>
    /// <param name="sets">Its sets, in any order; sets of other databases are an error.</param>
    /// <exception cref="ArgumentException">A set is of another database.</exception>
    /// <exception cref="OverflowException">More than <see cref="MostStores"/> are used.</exception>
    public DatabaseCatalogue(Id<Database> database, IEnumerable<BackupSet> sets)
    {
        Database = database;
        var all = sets.ToArray();
        Array.Sort(all.Select((s, i) => (s.CoversTo, s.ToPosition, s.Branch, i)).ToArray(), all);
        var n = all.Length;
        Kinds = new SetKind[n];
        Branches = new int[n];
        Parents = new int[n];
        FromPositions = new long[n];
        ToPositions = new long[n];
        CoversFrom = new long[n];
        CoversTo = new long[n];
        CopyEnds = new int[n];
        DataBytes = new long[n];
        flags = new byte[n];
        finishedAt = new long[n];
        idEnds = new int[n];
        var copies = all.Sum(s => s.Copies.Count);
        CopyStores = new ushort[copies];
        CopyStates = new CopyState[copies];
        AvailableAt = new long[copies];
        StoredBytes = new long[copies];
        RemovedAt = all.Any(s => s.Copies.Any(c => c.RemovedAt is not null)) ? new long[copies] : null;
        LockedUntil = all.Any(s => s.Copies.Any(c => c.LockedUntil is not null)) ? new long[copies] : null;
        idBytes = new byte[all.Sum(s => Encoding.UTF8.GetByteCount(s.Id.Value))];
        keys = all.Any(s => s.Key is not null) ? new string?[n] : null;
        var stores = new List<Id<Store>>();
        var (storeNumbers, sameKeys) = (new Dictionary<Id<Store>, int>(), new Dictionary<string, string>());
        Dictionary<string, int>? byId = null;
        if (all.Any(s => s.Parent is not null))
        {
            byId = new(n);
            for (var i = 0; i < n; i++)
            {
                byId.TryAdd(all[i].Id.Value, i);
            }
        }

        int copy = 0, text = 0;
        for (var i = 0; i < n; i++)
        {
            var s = all[i];
            if (s.Database != database)
            {
                throw new ArgumentException($"set '{s.Id}' is of database '{s.Database}', not '{database}'", nameof(sets));
            }

            Kinds[i] = s.Kind;
            Branches[i] = s.Branch;
            Parents[i] = NoParent;
            if (s.Kind is SetKind.Differential or SetKind.Incremental)
            {
                Parents[i] = ParentMissing;
                if (s.Parent is { } parent && byId!.TryGetValue(parent.Value, out var p))
                {
                    Parents[i] = p;
                }
                else if (s.Parent is { } lost)
                {
                    (missingParents ??= [])[i] = lost.Value;
                }
            }

            FromPositions[i] = s.FromPosition ?? long.MinValue;
            ToPositions[i] = s.ToPosition;
            CoversFrom[i] = s.CoversFrom?.ToUnixTimeMilliseconds() ?? long.MinValue;
            CoversTo[i] = s.CoversTo.ToUnixTimeMilliseconds();
            finishedAt[i] = s.FinishedAt.ToUnixTimeMilliseconds();
            DataBytes[i] = s.DataBytes;
            flags[i] = (byte)((s.OutsideChain ? 1 : 0) | (s.RollForward ? 2 : 0));
            text += Encoding.UTF8.GetBytes(s.Id.Value, idBytes.AsSpan(text));
            idEnds[i] = text;
            if (s.UsableOn.Count > 0)
            {
                (usableOn ??= [])[i] = s.UsableOn;
            }

            if (s.Key is { } key)
            {
                keys![i] = sameKeys.TryGetValue(key, out var same) ? same : sameKeys[key] = key;
            }

            foreach (var c in s.Copies)
            {
                if (!storeNumbers.TryGetValue(c.Store, out var at))
                {
                    storeNumbers[c.Store] = at = stores.Count;
                    stores.Add(c.Store);
                }

                CopyStores[copy] = checked((ushort)at);
                CopyStates[copy] = c.State;
                AvailableAt[copy] = c.AvailableAt.ToUnixTimeMilliseconds();
                StoredBytes[copy] = c.StoredBytes;
                if (RemovedAt is not null)
                {
                    RemovedAt[copy] = c.RemovedAt?.ToUnixTimeMilliseconds() ?? Open;
                }

                if (LockedUntil is not null)
                {
                    LockedUntil[copy] = c.LockedUntil?.ToUnixTimeMilliseconds() ?? long.MinValue;
                }

                copy++;
            }

            CopyEnds[i] = copy;
        }

        Stores = [.. stores];
        if (byId is not null)
        {
            BreakCycles();
        }
    }

    private DatabaseCatalogue(DatabaseCatalogue of, IReadOnlyList<LagHistory> lag)
    {
        (Database, Kinds, Branches, Parents, FromPositions, ToPositions, CoversFrom, CoversTo, CopyEnds, CopyStores, CopyStates, AvailableAt, StoredBytes, DataBytes, RemovedAt, LockedUntil) =
            (of.Database, of.Kinds, of.Branches, of.Parents, of.FromPositions, of.ToPositions, of.CoversFrom, of.CoversTo, of.CopyEnds, of.CopyStores, of.CopyStates, of.AvailableAt, of.StoredBytes, of.DataBytes, of.RemovedAt, of.LockedUntil);
        (flags, finishedAt, idBytes, idEnds, usableOn, missingParents, keys, Stores) =
            (of.flags, of.finishedAt, of.idBytes, of.idEnds, of.usableOn, of.missingParents, of.keys, of.Stores);
        Lag = lag;
    }

    /// <summary>The database these sets are of.</summary>
    public Id<Database> Database { get; }

    /// <summary>What is known of the lag of its replicas.</summary>
    public IReadOnlyList<LagHistory> Lag { get; private init; } = [];

    /// <summary>What is known of the lag of one of its replicas.</summary>
    public LagHistory LagOf(Id<Replica> replica) => Lag.FirstOrDefault(l => l.Replica == replica) ?? new LagHistory(replica, []);

    /// <summary>The same sets with another lag of the replicas.</summary>
    public DatabaseCatalogue WithLag(IReadOnlyList<LagHistory> lag) => new(this, lag);

    /// <summary>How many sets there are.</summary>
    public int Count => Kinds.Length;

    /// <summary>The stores that hold or held a copy.</summary>
    public IReadOnlyList<Id<Store>> Stores { get; }

    /// <summary>The sets, in the order of the instants they cover to.</summary>
    public IEnumerable<BackupSet> Sets => Enumerable.Range(0, Count).Select(i => this[i]);

    /// <summary>The places of sets that have, or had, more than one copy in a store.</summary>
    internal IEnumerable<int> WithSeveralCopiesInAStore()
    {
        for (var i = 0; i < Count; i++)
        {
            var copies = CopyStores.AsSpan(CopyStart(i), CopyEnds[i] - CopyStart(i));
            for (var j = 1; j < copies.Length; j++)
            {
                if (copies[..j].Contains(copies[j]))
                {
                    yield return i;
                    break;
                }
            }
        }
    }

    /// <summary>One set, put together from the columns.</summary>
    /// <param name="index">Its place in the order of <see cref="Sets"/>.</param>
    public BackupSet this[int index] => At(index).Whole();

    /// <summary>One set where it lies.</summary>
    /// <param name="index">Its place in the order of <see cref="Sets"/>.</param>
    public SetInColumns At(int index) => new(this, index);

    /// <summary>The same catalogue with some sets added or replaced.</summary>
    public DatabaseCatalogue With(IReadOnlyCollection<BackupSet> changed)
    {
        var replaced = changed.Select(s => s.Id).ToHashSet();
        return Rebuilt(Sets.Where(s => !replaced.Contains(s.Id)).Concat(changed));
    }

    /// <summary>Other sets of the same database, and the same lag of its replicas.</summary>
    public DatabaseCatalogue Rebuilt(IEnumerable<BackupSet> sets) => new(Database, sets) { Lag = Lag };

    /// <summary>The identifier of a set.</summary>
    public Id<BackupSet> IdOf(int index) => new(Encoding.UTF8.GetString(Utf8IdOf(index)));

    /// <summary>The same, as it lies there.</summary>
    internal ReadOnlySpan<byte> Utf8IdOf(int index)
    {
        var start = index == 0 ? 0 : idEnds[index - 1];
        return idBytes.AsSpan(start, idEnds[index] - start);
    }

    internal Instant FinishedAt(int index) => Instant.FromUnixTimeMilliseconds(finishedAt[index]);

    internal string? KeyOf(int index) => keys?[index];

    internal bool IsOutsideChain(int index) => (flags[index] & 1) != 0;

    internal bool RollsForward(int index) => (flags[index] & 2) != 0;

    /// <summary>Where a set stands; -1 when there is none of that name.</summary>
    public int IndexOf(Id<BackupSet> id)
    {
        var wanted = Encoding.UTF8.GetBytes(id.Value).AsSpan();
        for (var i = 0; i < idEnds.Length; i++)
        {
            if (wanted.SequenceEqual(Utf8IdOf(i)))
            {
                return i;
            }
        }

        return -1;
    }

    /// <summary>Bytes of the copies that lie in a store at an instant, milliseconds of the Unix epoch.</summary>
    public double StoredIn(Id<Store> store, long at)
    {
        var number = -1;
        for (var i = 0; i < Stores.Count; i++)
        {
            number = Stores[i] == store ? i : number;
        }

        var total = 0.0;
        for (var copy = 0; number >= 0 && copy < CopyStores.Length; copy++)
        {
            if (CopyStores[copy] == number && AvailableAt[copy] <= at && (RemovedAt is null || RemovedAt[copy] > at))
            {
                total += StoredBytes[copy];
            }
        }

        return total;
    }

    /// <summary>The hosts a set may be restored on; empty means any.</summary>
    public IReadOnlyList<Id<Host>> UsableOn(int index) => usableOn?.GetValueOrDefault(index) ?? [];

    /// <summary>Whether a set is log in which nothing was written: it ends where it starts.</summary>
    internal bool IsIdle(int index) => Kinds[index] == SetKind.Log && FromPositions[index] == ToPositions[index];

    internal bool HasUsableOn => usableOn is not null;

    /// <summary>The first instant after another at which a copy comes, goes, or is no longer locked; null when none is known.</summary>
    internal Instant? NextCopyEvent(Instant after)
    {
        var (from, next) = (after.ToUnixTimeMilliseconds(), Open);
        foreach (var times in (ReadOnlySpan<long[]?>)[AvailableAt, RemovedAt, LockedUntil])
        {
            foreach (var t in times ?? [])
            {
                if (t > from && t < next)
                {
                    next = t;
                }
            }
        }

        return next == Open ? null : Instant.FromUnixTimeMilliseconds(next);
    }

    internal int CopyStart(int index) => index == 0 ? 0 : CopyEnds[index - 1];

    /// <summary>Whether log can follow this set, looking at the set alone and not at its parents.</summary>
    internal bool AcceptsLogByItself(int index) => Kinds[index] != SetKind.Export && RollsForward(index);

    /// <summary>Why a set can never be restored for want of its own parent; null when it has it, or needs none.</summary>
    internal string? WhyWithoutParent(int index) => Parents[index] switch
    {
        ParentMissing => $"{IdOf(index)} builds on {(ParentOf(index) is { } name ? name.Value : "a set")}, which is not in the catalogue",
        ParentCircular => $"{IdOf(index)} builds on {ParentOf(index)}, which builds on it in turn",
        _ => null,
    };

    internal Id<BackupSet>? ParentOf(int index) => Parents[index] switch
    {
        NoParent => null,
        ParentMissing or ParentCircular => missingParents?.GetValueOrDefault(index) is { } name ? new(name) : null,
        var p => IdOf(p),
    };

    /// <summary>Works something out for each set from what it is for the one it builds on: each is looked at once, however long chains are and in whatever order they lie.</summary>
    /// <param name="of">What it is for a set, given what it is for its parent; the default where there is none, or it is missing.</param>
    internal T[] FromParents<T>(Func<int, T?, T> of)
    {
        var (all, known, above) = (new T[Count], new bool[Count], new Stack<int>());
        for (var set = 0; set < Count; set++)
        {
            for (var at = set; at >= 0 && !known[at]; at = Parents[at])
            {
                above.Push(at);
            }

            while (above.TryPop(out var at))
            {
                all[at] = of(at, Parents[at] is >= 0 and var parent ? all[parent] : default);
                known[at] = true;
            }
        }

        return all;
    }

    /// <summary>Each set of a cycle loses its parent, whose name alone stays.</summary>
    private void BreakCycles()
    {
        // A parent mostly stands before what builds on it; where all do there is no cycle.
        if (!Parents.Where((parent, set) => parent >= set).Any())
        {
            return;
        }

        // The walk that was the first to come by a set, from 1.
        var walks = new int[Count];
        for (var set = 0; set < Count; set++)
        {
            var at = set;
            for (; at >= 0 && walks[at] == 0; at = Parents[at])
            {
                walks[at] = set + 1;
            }

            while (at >= 0 && walks[at] == set + 1 && Parents[at] >= 0)
            {
                var next = Parents[at];
                (missingParents ??= [])[at] = IdOf(next).Value;
                Parents[at] = ParentCircular;
                at = next;
            }
        }
    }
}
