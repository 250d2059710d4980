using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Timetable;

/// <summary>A time in which nothing of some scope starts: a pause, a maintenance window.</summary>
/// <param name="From">When it begins.</param>
/// <param name="To">When it ends; null until somebody ends it.</param>
/// <param name="Plan">Of this plan; null for any.</param>
/// <param name="Database">Of this database; null for any.</param>
/// <param name="Host">On this host; null for any.</param>
/// <param name="Store">To this store; null for any.</param>
/// <param name="Reason">Why.</param>
public sealed record Blackout(Instant From, Instant? To, Id<Planning.Plan>? Plan, Id<Database>? Database, Id<Host>? Host, Id<Store>? Store, string Reason)
{
    /// <summary>Whether it holds back a series.</summary>
    public bool Holds(Series series) =>
        (Plan is null || Plan == series.Plan.Id) && (Database is null || Database == series.Database.Id)
        && (Host is null || Host == series.Database.Host) && (Store is not { } s || series.Task.Stores.Contains(s));

    /// <summary>When a series may start that is due at an instant; null while nobody has said.</summary>
    public static Instant? FirstFree(IReadOnlyList<Blackout> blackouts, Series series, Instant due)
    {
        for (var again = true; again;)
        {
            again = false;
            foreach (var b in blackouts)
            {
                if (b.From <= due && (b.To is not { } to || due < to) && b.Holds(series))
                {
                    if (b.To is not { } end)
                    {
                        return null;
                    }

                    (due, again) = (end, true);
                }
            }
        }

        return due;
    }
}
