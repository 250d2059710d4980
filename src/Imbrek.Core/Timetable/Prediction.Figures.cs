using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>What is counted while it runs: load, space, clashes; and the figures at its end.</summary>
public sealed partial class Prediction
{
    private void AddLoad(int[] way, double bytes, double start, double end)
    {
        if (curves is not null)
        {
            foreach (var r in way)
            {
                curves.Add(r, bytes, start, end);
            }
        }
    }

    private void Occupy((double[] Space, double WriteRate, long Stay) place, double bytes, long at)
    {
        var perDay = place.Space;
        Change(at, bytes);
        if (place.Stay > 0)
        {
            Change(at + place.Stay, -bytes);
        }

        void Change(long when, double by)
        {
            var day = (when - from + Day - 1) / Day;
            if (day >= 0 && day < perDay.Length)
            {
                perDay[day] += by;
            }
        }
    }

    private void Tell(ClashKind kind, SeriesState s, string place, long at, double seconds)
    {
        if (at < input.ClashesFrom?.ToUnixTimeMilliseconds())
        {
            return;
        }

        var key = (kind, s.Series.Plan.Id.Value, s.Series.Task.Id, place);
        clashes[key] = clashes.TryGetValue(key, out var known)
            ? known with
            {
                Count = known.Count + 1,
                WorstSeconds = Math.Max(known.WorstSeconds, seconds),
                Database = seconds > known.WorstSeconds ? s.Series.Database.Id.Value : known.Database,
            }
            : new Clash(kind, s.Series.Plan.Id.Value, s.Series.Task.Id, place, Instant.FromUnixTimeMilliseconds(at), 1, seconds, s.Series.Database.Id.Value);
    }

    private PredictionFigures Figures()
    {
        var fleet = input.Fleet;
        for (var r = 0; curves is not null && r < network.Count; r++)
        {
            curves.Level(r, network.CapacityOf(r));
        }

        foreach (var link in curves is null ? [] : fleet.Links)
        {
            var run = 0;
            var curve = curves!.Of(network[Routes.Of(link.One, link.Other)]);
            for (var i = 0; i < curve.Length; i++)
            {
                run = curve[i] >= SaturatedFrom * link.BytesPerSecond * LoadCurves.Slice / 1000 ? run + 1 : 0;
                if (run == SaturatedSlices)
                {
                    var name = $"{link.One}–{link.Other}";
                    var at = Instant.FromUnixTimeMilliseconds(from + ((i + 1 - SaturatedSlices) * LoadCurves.Slice));
                    var key = (ClashKind.LinkSaturated, (string?)null, (string?)null, name);
                    clashes[key] = clashes.TryGetValue(key, out var known) ? known with { Count = known.Count + 1 } : new Clash(ClashKind.LinkSaturated, null, null, name, at, 1, SaturatedSlices * LoadCurves.Slice / 1000.0, null);
                }
            }
        }

        foreach (var (store, perDay) in space)
        {
            var sum = 0.0;
            var curve = perDay.Select(p => sum += p).ToArray();
            if (fleet.Stores[store].CapacityBytes is { } capacity && Array.FindIndex(curve, b => b > capacity) is >= 0 and var day)
            {
                clashes[(ClashKind.StoreFull, null, null, store.Value)] =
                    new Clash(ClashKind.StoreFull, null, null, store.Value, Instant.FromUnixTimeMilliseconds(from + (day * Day)), 1, 0, null);
            }
        }

        return new PredictionFigures([.. clashes.Values.OrderBy(c => c.At)], curves, name => network[name]);
    }
}
