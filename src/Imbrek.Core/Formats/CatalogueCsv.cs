using System.Globalization;
using System.Text;
using System.Text.Json;
using CsvHelper;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Formats;

/// <summary>The catalogue as CSV: the same fields as the JSON Lines, one copy a row, the set's own fields repeated.</summary>
public static class CatalogueCsv
{
    private static readonly string[] SetFields =
        ["id", "database", "kind", "branch", "parent", "fromPosition", "toPosition", "coversFrom", "coversTo", "finishedAt", "dataBytes", "outsideChain", "rollForward", "usableOn", "key"];

    private static readonly string[] CopyFields = ["store", "availableAt", "removedAt", "lockedUntil", "storedBytes", "state"];

    /// <summary>Fields that a file may leave out.</summary>
    private static readonly HashSet<string> Optional = ["key"];

    private static readonly HashSet<string> Numbers = ["branch", "fromPosition", "toPosition", "dataBytes", "storedBytes"];
    private static readonly HashSet<string> Flags = ["outsideChain", "rollForward"];

    /// <summary>Writes sets; <c>usableOn</c> is separated by spaces.</summary>
    public static string Write(IEnumerable<BackupSet> sets)
    {
        using var text = new StringWriter(CultureInfo.InvariantCulture);
        using var csv = new CsvWriter(text, CultureInfo.InvariantCulture);
        Row([.. SetFields, .. CopyFields]);
        foreach (var s in sets)
        {
            string[] own =
            [
                s.Id.Value, s.Database.Value, s.Kind.ToString().ToLowerInvariant(), Number(s.Branch), s.Parent?.Value ?? "", Number(s.FromPosition), Number(s.ToPosition),
                Instants.Write(s.CoversFrom) ?? "", Instants.Write(s.CoversTo), Instants.Write(s.FinishedAt), Number(s.DataBytes), s.OutsideChain ? "true" : "false",
                s.Kind != SetKind.Export && s.RollForward ? "true" : "false", string.Join(' ', s.UsableOn), s.Key ?? "",
            ];
            foreach (var c in s.Copies)
            {
                Row([.. own, c.Store.Value, Instants.Write(c.AvailableAt), Instants.Write(c.RemovedAt) ?? "", Instants.Write(c.LockedUntil) ?? "", Number(c.StoredBytes), c.State.ToString().ToLowerInvariant()]);
            }
        }

        csv.Flush();
        return text.ToString();

        void Row(IEnumerable<string> fields)
        {
            foreach (var field in fields)
            {
                csv.WriteField(field);
            }

            csv.NextRecord();
        }

        static string Number(long? n) => n?.ToString(CultureInfo.InvariantCulture) ?? "";
    }

    /// <summary>Reads sets by the same rules, and with the same faults, as the JSON Lines; lines are those of the first copy of a set.</summary>
    /// <inheritdoc cref="CatalogueFile.Read"/>
    public static ReadResult<BackupCatalogue> Read(ReadOnlySpan<byte> utf8, string file, FleetModel fleet, bool skipBad = false)
    {
        using var csv = new CsvReader(new StringReader(Encoding.UTF8.GetString(utf8)), CultureInfo.InvariantCulture);
        if (!csv.Read() || !csv.ReadHeader())
        {
            return new(null, [new Fault(file, 1, "", "expected a header with the names of the fields")], []);
        }

        var missing = SetFields.Concat(CopyFields).Where(f => !Optional.Contains(f) && !csv.HeaderRecord!.Contains(f)).ToArray();
        if (missing.Length > 0)
        {
            return new(null, [.. missing.Select(f => new Fault(file, 1, f, "is not in the header"))], []);
        }

        // One line of JSON for each set, at the line where the set first stood, so that faults name the right one.
        var lines = new SortedDictionary<int, (Dictionary<string, object?> Set, List<Dictionary<string, object?>> Copies)>();
        var first = new Dictionary<(string, string), int>();
        while (csv.Read())
        {
            var key = (csv.GetField("database") ?? "", csv.GetField("id") ?? "");
            var line = csv.Parser.RawRow;
            if (!first.TryGetValue(key, out var at))
            {
                first[key] = at = line;
                lines[at] = (Fields(SetFields), []);
            }

            lines[at].Copies.Add(Fields(CopyFields));
        }

        var json = new StringBuilder();
        var written = 1;
        foreach (var (line, (set, copies)) in lines)
        {
            json.Append('\n', line - written);
            written = line;
            set["type"] = "set";
            set["copies"] = copies;
            json.Append(JsonSerializer.Serialize(set));
        }

        return CatalogueFile.Read(Encoding.UTF8.GetBytes(json.ToString()), file, fleet, skipBad);

        Dictionary<string, object?> Fields(string[] names)
        {
            var values = new Dictionary<string, object?>();
            foreach (var name in names)
            {
                var text = csv.TryGetField<string>(name, out var field) ? field ?? "" : "";
                values[name] = text.Length == 0 ? null
                    : name == "usableOn" ? text.Split(' ', StringSplitOptions.RemoveEmptyEntries)
                    : Numbers.Contains(name) && long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var n) ? n
                    : Flags.Contains(name) && bool.TryParse(text, out var flag) ? flag
                    : text;
            }

            return values;
        }
    }
}
