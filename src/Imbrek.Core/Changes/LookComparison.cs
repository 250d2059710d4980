using System.Globalization;
using Imbrek.Core.Drivers;

namespace Imbrek.Core.Changes;

/// <summary>What is different after a change from before it.</summary>
/// <param name="Broke">Whether it is something that worked before and does not now, or takes much longer.</param>
/// <param name="What">What it is about: a table, a query, the log.</param>
/// <param name="Detail">Before and after.</param>
public sealed record Difference(bool Broke, string What, string Detail);

/// <summary>Compares what was seen before a change with what was seen after it (ways, section 10).</summary>
public static class LookComparison
{
    /// <summary>A query is slower when even the quickest of its times is at least this many times as long as it took before, and so much longer in seconds: one moment in which the machine was busy is none.</summary>
    public const double SlowerTimes = 2, SlowerSeconds = 0.02;

    /// <summary>Rows that were estimated differ when they do by more than this share of the larger.</summary>
    public const double EstimatesWithin = 0.1;

    /// <summary>What is different, what broke first.</summary>
    /// <param name="before">What was seen before.</param>
    /// <param name="after">What was seen after.</param>
    /// <param name="others">Whether others may have written meanwhile: then rows and answers may differ, and only what is gone or slow counts.</param>
    public static IReadOnlyList<Difference> Of(ChangeLook before, ChangeLook after, bool others)
    {
        var found = new List<Difference>();
        var tables = after.Tables.ToDictionary(t => t.Name);
        foreach (var t in before.Tables)
        {
            if (!tables.TryGetValue(t.Name, out var now))
            {
                found.Add(new(true, $"table {t.Name}", $"is gone; it had {Rows(t)} rows"));
            }
            else if (!others && AreOther(t, now))
            {
                found.Add(new(false, $"table {t.Name}", $"{Rows(t)} rows before, {Rows(now)} after"));
            }
        }

        var were = before.Tables.Select(t => t.Name).ToHashSet();
        found.AddRange(after.Tables.Where(t => !were.Contains(t.Name)).Select(t => new Difference(false, $"table {t.Name}", $"is new, with {Rows(t)} rows")));
        var queries = after.Queries.ToDictionary(q => q.Name);
        foreach (var was in before.Queries.Where(q => queries.ContainsKey(q.Name)))
        {
            var now = queries[was.Name];
            if (now.Error is not null)
            {
                found.Add(new(was.Error is null, $"query {was.Name}", was.Error is null ? $"worked before, fails now: {now.Error}" : $"failed before, and fails now: {now.Error}"));
                continue;
            }

            var quickest = now.Quickest ?? now.Seconds;
            if (was.Error is null && quickest >= SlowerTimes * was.Seconds && quickest - was.Seconds >= SlowerSeconds)
            {
                found.Add(new(true, $"query {was.Name}", $"takes {Seconds(now.Seconds)} now, {Seconds(was.Seconds)} before"));
            }

            if (was.Error is null && was.Answer != now.Answer && !others)
            {
                found.Add(new(false, $"query {was.Name}", $"answered {was.Answer}, answers {now.Answer}"));
            }
        }

        if (after.Errors > (before.ErrorsSince ?? 0))
        {
            found.Add(new(true, "log", $"{Number(after.Errors.Value - (before.ErrorsSince ?? 0))} more errors in the log of the engine"));
        }

        return [.. found.OrderByDescending(d => d.Broke)];
    }

    private static bool AreOther(TableRows was, TableRows now) =>
        was.Estimated || now.Estimated ? Math.Abs(was.Rows - now.Rows) > EstimatesWithin * Math.Max(was.Rows, now.Rows) : was.Rows != now.Rows;

    private static string Rows(TableRows t) => $"{(t.Estimated ? "about " : "")}{Number(t.Rows)}";

    private static string Number(long n) => n.ToString("#,0", CultureInfo.InvariantCulture);

    private static string Seconds(double s) => s < 1 ? $"{Math.Round(s * 1000)} ms" : $"{Math.Round(s, 2).ToString(CultureInfo.InvariantCulture)} s";
}
