using Imbrek.Core.Drivers;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>What was seen in a drill on both sides and by clients, and what follows from it (section 11, measured figures).</summary>
/// <param name="Spans">What was seen, in order of time.</param>
public sealed record DrillTrail(IReadOnlyList<DrillSpan> Spans)
{
    /// <summary>A time in which nobody could write.</summary>
    /// <param name="From">From the first second in which no write succeeded.</param>
    /// <param name="To">Until the first in which one did again, or the last that was looked at.</param>
    public sealed record Stop(Instant From, Instant To)
    {
        /// <summary>How long, seconds.</summary>
        public double Seconds => (To - From).TotalSeconds;
    }

    /// <summary>The times in which nobody could write on either side.</summary>
    public IReadOnlyList<Stop> Stops => Runs(s => !s.Here && !s.There);

    /// <summary>For how long clients were without service in all, seconds.</summary>
    public double WithoutServiceSeconds => Runs(s => !s.Clients).Sum(s => s.Seconds);

    /// <summary>In how many seconds both sides took a write.</summary>
    public int BothWritable => Spans.Where(s => s is { Here: true, There: true }).Sum(s => 1 + (int)(s.To - s.From).TotalSeconds);

    /// <summary>The runs of spans that have something in common, each up to the beginning of the next.</summary>
    private List<Stop> Runs(Func<DrillSpan, bool> has)
    {
        var runs = new List<Stop>();
        for (var i = 0; i < Spans.Count; i++)
        {
            if (has(Spans[i]))
            {
                var to = i + 1 < Spans.Count ? Spans[i + 1].From : Spans[i].To;
                if (i > 0 && has(Spans[i - 1]))
                {
                    runs[^1] = runs[^1] with { To = to };
                }
                else
                {
                    runs.Add(new(Spans[i].From, to));
                }
            }
        }

        return runs;
    }
}
