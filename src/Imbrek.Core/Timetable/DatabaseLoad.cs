using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>How much a database has and how fast it changes: what sizes of future sets are computed from.</summary>
/// <param name="At">The instant at which it has <paramref name="SizeBytes"/>.</param>
/// <param name="SizeBytes">Its size, bytes.</param>
/// <param name="GrowthBytesPerDay">Bytes by which it grows a day.</param>
/// <param name="ChangeBytesPerDay">Bytes that change within a day; within longer the same pages change again, so less than so many times as much.</param>
/// <param name="LogBytesPerSecond">Bytes of log a second, mean over a day.</param>
/// <param name="LogByHour">The log rate of each hour of the day (UTC) over the mean; empty means even.</param>
/// <param name="FromRuns">Whether it was learned from sets there are, and not only stated.</param>
public sealed record DatabaseLoad(
    Instant At, double SizeBytes, double GrowthBytesPerDay, double ChangeBytesPerDay, double LogBytesPerSecond, IReadOnlyList<double> LogByHour, bool FromRuns)
{
    private const double DaySeconds = 86_400;

    /// <summary>How many of the newest sets of a kind say how well it compresses, and the smallest that says anything, bytes.</summary>
    private const int PackedSets = 9, SmallestPacked = 65_536;

    /// <summary>Of a database nobody has said more about: a twentieth changes in a day.</summary>
    private const double UsualChange = 0.05;

    /// <summary>Stored bytes of each kind of set over what the profile of its compression says; what is not there is as the profile says.</summary>
    public IReadOnlyDictionary<SetKind, double> Packing { get; init; } = new Dictionary<SetKind, double>();

    /// <summary>As stated in the fleet, with usual figures for what is not.</summary>
    public static DatabaseLoad Stated(Database database, Instant at)
    {
        var change = database.ChangeBytesPerDay ?? database.SizeBytes * UsualChange;
        return new(at, database.SizeBytes, database.GrowthBytesPerDay ?? 0, change, database.LogBytesPerSecond ?? change * 1.2 / DaySeconds, database.LogByHour, false);
    }

    /// <summary>As learned from the sets of the last 14 days, and stated where they tell nothing.</summary>
    /// <param name="database">The database.</param>
    /// <param name="c">Its sets.</param>
    /// <param name="at">Now.</param>
    /// <param name="tasks">The tasks that took them: what they stored is compared with what their compression should make of it.</param>
    public static DatabaseLoad Learned(Database database, DatabaseCatalogue c, Instant at, IEnumerable<PlanTask>? tasks = null)
    {
        var load = Stated(database, at);
        var (to, from) = (at.ToUnixTimeMilliseconds(), (at - Duration.FromDays(14)).ToUnixTimeMilliseconds());
        double logBytes = 0, logSeconds = 0;
        var bytes = new double[24];
        var seconds = new double[24];
        (long At, double Bytes)? first = null, last = null;
        var changes = new List<double>();
        for (var i = 0; i < c.Count; i++)
        {
            if (c.CoversTo[i] < from || c.CoversTo[i] > to)
            {
                continue;
            }

            switch (c.Kinds[i])
            {
                case SetKind.Log when c.CoversTo[i] > c.CoversFrom[i]:
                    var took = (c.CoversTo[i] - c.CoversFrom[i]) / 1000.0;
                    var hour = HourOf((c.CoversFrom[i] / 2) + (c.CoversTo[i] / 2));
                    logBytes += c.DataBytes[i];
                    logSeconds += took;
                    bytes[hour] += c.DataBytes[i];
                    seconds[hour] += took;
                    break;
                case SetKind.Full or SetKind.Snapshot or SetKind.Export:
                    first ??= (c.CoversTo[i], c.DataBytes[i]);
                    last = (c.CoversTo[i], c.DataBytes[i]);
                    break;
                case SetKind.Differential or SetKind.Incremental when c.Parents[i] >= 0:
                    var days = (c.CoversTo[i] - c.CoversTo[c.Parents[i]]) / 1000.0 / DaySeconds;
                    var part = Math.Min(c.DataBytes[i] / load.SizeBytes, 0.999);
                    if (days > 0.01)
                    {
                        changes.Add(-Math.Log(1 - part) * load.SizeBytes / days);
                    }

                    break;
            }
        }

        if (logSeconds > 6 * 3600)
        {
            var mean = logBytes / logSeconds;
            load = load with
            {
                LogBytesPerSecond = mean,
                LogByHour = mean > 0 && seconds.All(s => s > 0) ? [.. bytes.Zip(seconds, (b, s) => b / s / mean)] : [],
                FromRuns = true,
            };
        }

        if (changes.Count > 0)
        {
            changes.Sort();
            load = load with { ChangeBytesPerDay = changes[changes.Count / 2], FromRuns = true };
        }

        if (first is { } f && last is { } l)
        {
            var apart = (l.At - f.At) / 1000.0 / DaySeconds;
            load = load with
            {
                At = Instant.FromUnixTimeMilliseconds(l.At),
                SizeBytes = l.Bytes,
                GrowthBytesPerDay = apart >= 3 ? (l.Bytes - f.Bytes) / apart : load.GrowthBytesPerDay,
                FromRuns = true,
            };
        }

        return load with { Packing = PackingOf(c, tasks ?? []) };
    }

    /// <summary>Bytes stored by a task that takes the whole of it, if it were due at an instant.</summary>
    public double StoredWhole(PlanTask task, Instant at) => SizeAt(at.ToUnixTimeMilliseconds()) * RatioOf(task);

    /// <summary>Stored bytes over data bytes of a set that a task takes of it.</summary>
    public double RatioOf(PlanTask task) => task.Compression == Compression.Off || task.Kind.Makes() is not { } kind
        ? 1
        : Math.Min(1, task.Compression.Ratio() * Packing.GetValueOrDefault(kind, 1));

    private static Dictionary<SetKind, double> PackingOf(DatabaseCatalogue c, IEnumerable<PlanTask> tasks)
    {
        var packing = new Dictionary<SetKind, double>();
        foreach (var task in tasks)
        {
            if (task.Compression == Compression.Off || task.Kind.Makes() is not { } kind || packing.ContainsKey(kind))
            {
                continue;
            }

            // The newest only: after another compression was chosen, what it does is known within a few sets.
            var ratios = new List<double>(PackedSets);
            for (var i = c.Count - 1; i >= 0 && ratios.Count < PackedSets; i--)
            {
                if (c.Kinds[i] == kind && c.DataBytes[i] >= SmallestPacked && c.CopyEnds[i] > c.CopyStart(i))
                {
                    ratios.Add(c.StoredBytes[c.CopyStart(i)] / (double)c.DataBytes[i]);
                }
            }

            if (ratios.Count > 0)
            {
                ratios.Sort();
                packing[kind] = ratios[ratios.Count / 2] / task.Compression.Ratio();
            }
        }

        return packing;
    }

    /// <summary>Its size at an instant, milliseconds of the Unix epoch.</summary>
    public double SizeAt(long at) => Math.Max(0, SizeBytes + (GrowthBytesPerDay * (at - At.ToUnixTimeMilliseconds()) / 1000.0 / DaySeconds));

    /// <summary>Bytes that differ after some time.</summary>
    public double ChangedBetween(long from, long to)
    {
        var size = SizeAt(to);
        return size <= 0 ? 0 : size * (1 - Math.Exp(-ChangeBytesPerDay * Math.Max(0, to - from) / 1000.0 / DaySeconds / size));
    }

    /// <summary>Bytes of log written between two instants.</summary>
    public double LogBetween(long from, long to)
    {
        if (LogByHour.Count == 0)
        {
            return LogBytesPerSecond * (to - from) / 1000.0;
        }

        var total = 0.0;
        while (from < to)
        {
            // Hour by hour; whole days at once.
            var days = (to - from) / 86_400_000;
            if (days > 0)
            {
                total += days * DaySeconds * LogByHour.Average();
                from += days * 86_400_000;
                continue;
            }

            var end = Math.Min(to, ((from / 3_600_000) + 1) * 3_600_000);
            total += (end - from) / 1000.0 * LogByHour[HourOf(from)];
            from = end;
        }

        return total * LogBytesPerSecond;
    }

    private static int HourOf(long at) => (int)(at / 3_600_000 % 24);
}
