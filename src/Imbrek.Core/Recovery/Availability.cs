using Imbrek.Core.Catalogue;
using Imbrek.Core.Objectives;

namespace Imbrek.Core.Recovery;

/// <summary>Usable copies of section 2: from when to when each set of one database can be read, under one loss.</summary>
internal sealed class Availability
{
    private readonly DatabaseCatalogue c;
    private readonly bool hostile;
    private readonly bool[] storeSurvives;
    private readonly bool[] storeOffline;
    private readonly RecoverySubject subject;
    private readonly Loss loss;

    public Availability(RecoverySubject subject, Loss loss)
    {
        this.subject = subject;
        this.loss = loss;
        c = subject.Catalogue;
        hostile = loss.Kind == LossKind.Hostile;
        storeSurvives = new bool[c.Stores.Count];
        storeOffline = new bool[c.Stores.Count];
        for (var i = 0; i < storeSurvives.Length; i++)
        {
            var store = subject.Fleet.Stores[c.Stores[i]];
            storeSurvives[i] = loss.Spares(store, subject.Fleet);
            storeOffline[i] = store.Offline;
        }
    }

    /// <summary>When a copy can be used: a half-open span of as-of instants; false when it never can.</summary>
    public bool SpanOf(int copy, out Span span)
    {
        span = default;
        if (c.CopyStates[copy] == CopyState.Damaged || !storeSurvives[c.CopyStores[copy]])
        {
            return false;
        }

        var until = c.RemovedAt is null ? DatabaseCatalogue.Open : c.RemovedAt[copy];
        if (hostile && !storeOffline[c.CopyStores[copy]])
        {
            until = Math.Min(until, c.LockedUntil is null ? long.MinValue : c.LockedUntil[copy]);
        }

        span = new Span(c.AvailableAt[copy], until);
        return span.From < span.Until;
    }

    /// <summary>Whether one copy can be used at an instant.</summary>
    public bool CopyUsableAt(int copy, long at) => SpanOf(copy, out var s) && s.From <= at && at < s.Until;

    /// <summary>Whether the set itself, parents aside, can be read at an instant.</summary>
    public bool UsableAt(int set, long at)
    {
        if (!SomeHostSurvives(set))
        {
            return false;
        }

        for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
        {
            if (CopyUsableAt(copy, at))
            {
                return true;
            }
        }

        return false;
    }

    /// <summary>Adds the spans in which the set itself, parents aside, can be read, clipped to start no earlier than <paramref name="from"/> and to begin by <paramref name="to"/>.</summary>
    public void AddSpans(int set, long from, long to, List<Span> into)
    {
        if (!SomeHostSurvives(set))
        {
            return;
        }

        var first = into.Count;
        for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
        {
            if (SpanOf(copy, out var s) && s.Until > from && s.From <= to)
            {
                into.Add(new Span(Math.Max(s.From, from), s.Until));
            }
        }

        Span.Normalize(into, first);
    }

    private bool SomeHostSurvives(int set)
    {
        if (!c.HasUsableOn)
        {
            return true;
        }

        var hosts = c.UsableOn(set);
        return hosts.Count == 0 || hosts.Any(h => loss.Spares(subject.Fleet.Hosts[h]));
    }

    /// <summary>As-of instants from one (included) to another (not included), in milliseconds.</summary>
    internal readonly record struct Span(long From, long Until)
    {
        /// <summary>Sorts and joins the spans of a list from a place on.</summary>
        public static void Normalize(List<Span> list, int first)
        {
            if (list.Count - first < 2)
            {
                return;
            }

            list.Sort(first, list.Count - first, ByStart);
            var last = first;
            for (var i = first + 1; i < list.Count; i++)
            {
                if (list[i].From <= list[last].Until)
                {
                    list[last] = new Span(list[last].From, Math.Max(list[last].Until, list[i].Until));
                }
                else
                {
                    list[++last] = list[i];
                }
            }

            list.RemoveRange(last + 1, list.Count - last - 1);
        }

        private static readonly Comparer<Span> ByStart = Comparer<Span>.Create((a, b) => a.From.CompareTo(b.From));
    }
}
