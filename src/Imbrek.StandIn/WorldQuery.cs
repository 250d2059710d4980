using System.Globalization;
using System.Text.RegularExpressions;
using Imbrek.Core.Drivers;
using Imbrek.StandIn.Engine;

namespace Imbrek.StandIn;

/// <summary>The few questions that a simulated database answers, and the few changes it takes, of whoever looks at a copy of it.</summary>
public static partial class WorldQuery
{
    /// <summary>The questions that a number answers.</summary>
    public const string Counts = "count rows, count written, count cancelled, sum values";

    /// <summary>All questions.</summary>
    public const string Help = Counts + ", rows, rows written, rows cancelled (each with: from 10 to 200), markers";

    /// <summary>The changes.</summary>
    public const string Changes = "hide values, clear rows from 10 to 200, forget markers";

    /// <summary>The number that answers a question; null when it asks for none.</summary>
    internal static long? Count(string query, PageImage image) => Plain(query) switch
    {
        "count rows" => image.Rows.Length,
        "count written" => image.Rows.LongCount(r => r != 0),
        "count cancelled" => image.Rows.LongCount(r => r == PageImage.Cancelled),
        "sum values" => image.Rows.Sum(r => (long)r),
        _ => null,
    };

    /// <summary>What answers a question; null when it is none that is known.</summary>
    internal static QueryRows? Rows(string query, PageImage image, int most)
    {
        if (Count(query, image) is { } number)
        {
            return new([Plain(query)], [[Text(number)]], false);
        }

        if (Plain(query) == "markers")
        {
            return Of(["name", "position", "committed"], image.Markers.Select(m => (IReadOnlyList<string?>)[m.Name, Text(m.Position), NodaTime.Instant.FromUnixTimeMilliseconds(m.Time).ToString()]));
        }

        if (AskedRows().Match(Plain(query)) is not { Success: true } asked || WorldStatement.Range(asked, image.Rows.Length) is not var (from, to))
        {
            return null;
        }

        bool Wanted(uint value) => asked.Groups["which"].Value switch { "written" => value != 0, "cancelled" => value == PageImage.Cancelled, _ => true };
        return Of(["row", "value"], Enumerable.Range(from, Math.Max(0, to - from + 1)).Where(i => Wanted(image.Rows[i])).Select(i => (IReadOnlyList<string?>)[Text(i), image.Rows[i] == 0 ? null : image.Rows[i] == PageImage.Cancelled ? "cancelled" : Text(image.Rows[i])]));

        QueryRows Of(string[] columns, IEnumerable<IReadOnlyList<string?>> rows)
        {
            IReadOnlyList<string?>[] some = [.. rows.Take(most + 1)];
            return new(columns, some.Length > most ? some[..most] : some, some.Length > most);
        }
    }

    /// <summary>Carries a change out, and says what it did; null when it is none that is known.</summary>
    internal static string? Change(string statement, PageImage image)
    {
        switch (Plain(statement))
        {
            case "hide values":
                var hidden = 0;
                for (var i = 0; i < image.Rows.Length; i++)
                {
                    if (image.Rows[i] is not 0 and not PageImage.Cancelled)
                    {
                        // The same place holds another value, from which the one before cannot be told.
                        image.Rows[i] = 1 + (uint)i;
                        hidden++;
                    }
                }

                return $"{hidden} values hidden";
            case "forget markers":
                var forgotten = image.Markers.Count;
                image.Markers.Clear();
                return $"{forgotten} markers forgotten";
            default:
                if (!Plain(statement).StartsWith("clear ", StringComparison.Ordinal) || WorldStatement.Read(statement, image.Rows.Length) is not { } cleared)
                {
                    return null;
                }

                foreach (var write in cleared.Writes)
                {
                    image.Rows[write.Row] = write.Value;
                }

                return $"{cleared.Writes.Length} rows cleared";
        }
    }

    internal static string Plain(string text) => string.Join(' ', text.ToLowerInvariant().Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)).TrimEnd(';', ' ');

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);

    [GeneratedRegex("^rows(?: (?<which>written|cancelled))?(?: from (?<from>[0-9]+) to (?<to>[0-9]+))?$")]
    private static partial Regex AskedRows();
}
