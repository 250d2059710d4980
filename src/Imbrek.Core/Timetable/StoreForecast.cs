using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>
/// How full stores will be: what lies there goes when its plan no longer keeps it, and what comes comes as in the last week and is kept as
/// long as its plan says.
/// </summary>
/// <param name="NowBytes">Bytes that lie there now.</param>
/// <param name="ByDay">Bytes on each of the coming days; the first is today.</param>
/// <param name="FullOn">The first day it holds more than it can; null when it does not within the days looked at, or nothing is said of its size.</param>
public sealed record StoreForecast(double NowBytes, IReadOnlyList<double> ByDay, Instant? FullOn)
{
    /// <summary>How many days are looked at.</summary>
    public const int Days = 120;

    private const double RecentDays = 7;

    /// <summary>Forecasts every store of a fleet.</summary>
    /// <param name="fleet">The fleet with its plans.</param>
    /// <param name="catalogueOf">The sets of each database.</param>
    /// <param name="now">Today.</param>
    public static IReadOnlyDictionary<Id<Store>, StoreForecast> Of(FleetModel fleet, Func<Id<Database>, DatabaseCatalogue> catalogueOf, Instant now)
    {
        var change = fleet.StoreList.ToDictionary(s => s.Id, _ => new double[Days + 2]);
        foreach (var d in fleet.Databases)
        {
            var c = catalogueOf(d.Id);
            var tasks = fleet.PlansOf(d).SelectMany(p => p.Tasks).ToArray();
            var reach = new Dictionary<(SetKind, int), double>();
            var growth = (d.GrowthBytesPerDay ?? 0) / Math.Max(1, d.SizeBytes);
            var comes = new Dictionary<(SetKind, int), double>();
            var (at, recent) = (now.ToUnixTimeMilliseconds(), (now - Duration.FromDays(RecentDays)).ToUnixTimeMilliseconds());
            for (var set = 0; set < c.Count; set++)
            {
                for (var copy = c.CopyStart(set); copy < c.CopyEnds[set]; copy++)
                {
                    if (c.AvailableAt[copy] > at)
                    {
                        continue;
                    }

                    var key = (c.Kinds[set], (int)c.CopyStores[copy]);
                    if (!reach.TryGetValue(key, out var days))
                    {
                        var store = c.Stores[c.CopyStores[copy]];
                        reach[key] = days = Array.Find(tasks, t => t.Kind.Makes() == key.Item1 && t.Stores.Contains(store))?.KeepIn(store).Reach?.TotalDays ?? double.PositiveInfinity;
                    }

                    var curve = change[c.Stores[c.CopyStores[copy]]];
                    if (c.RemovedAt is null || c.RemovedAt[copy] > at)
                    {
                        curve[0] += c.StoredBytes[copy];
                        Take(curve, days - ((at - c.AvailableAt[copy]) / 86_400_000.0), c.StoredBytes[copy]);
                    }

                    if (c.AvailableAt[copy] > recent)
                    {
                        // It comes again each week; spread over the days of the week it is a seventh a day.
                        var each = c.StoredBytes[copy] / RecentDays;
                        comes[key] = comes.GetValueOrDefault(key) + each;
                    }
                }
            }

            foreach (var (key, each) in comes)
            {
                for (var day = 1; day <= Days; day++)
                {
                    // What holds the whole database grows with it.
                    var bytes = key.Item1 is SetKind.Log ? each : each * (1 + (growth * day));
                    change[c.Stores[key.Item2]][day] += bytes;
                    Take(change[c.Stores[key.Item2]], day + reach[key], bytes);
                }
            }
        }

        return fleet.StoreList.ToDictionary(s => s.Id, s =>
        {
            var sum = 0.0;
            var byDay = change[s.Id].Take(Days + 1).Select(x => sum += x).ToArray();
            var full = s.CapacityBytes is { } capacity ? Array.FindIndex(byDay, b => b > capacity) : -1;
            return new StoreForecast(byDay[0], byDay, full < 0 ? null : now + Duration.FromDays(full));
        });

        static void Take(double[] curve, double day, double bytes)
        {
            if (day < curve.Length - 1)
            {
                curve[Math.Max(1, (int)Math.Ceiling(day))] -= bytes;
            }
        }
    }
}
