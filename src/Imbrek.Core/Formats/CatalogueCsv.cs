using System.Globalization;
using System.Text;
using System.Text.Json;
using CsvHelper;
using CsvHelper.Configuration;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Formats;

/// <summary>The catalogue as CSV: the same fields as the JSON Lines, one copy a row, the set's own fields repeated.</summary>
public static class CatalogueCsv
{
    private static readonly string[] SetFields =
        ["id", "database", "kind", "branch", "parent", "fromPosition", "toPosition", "coversFrom", "coversTo", "finishedAt", "dataBytes", "outsideChain", "rollForward", "usableOn", "key"];

    private static readonly string[] CopyFields = ["store", "availableAt", "removedAt", "lockedUntil", "storedBytes", "state"];

    private const int LongestField = 10_000;
    private const int MostInRow = 3;

    private static readonly UTF8Encoding Strict = new(false, throwOnInvalidBytes: true);

    /// <summary>Fields that a file may leave out.</summary>
    private static readonly HashSet<string> Optional = ["key"];

    private static readonly HashSet<string> Numbers = ["branch", "fromPosition", "toPosition", "dataBytes", "storedBytes"];
    private static readonly HashSet<string> Flags = ["outsideChain", "rollForward"];

    /// <summary>Writes sets; <c>usableOn</c> is separated by spaces.</summary>
    /// <param name="sets">The sets.</param>
    /// <param name="header">Whether the row with the names of the fields comes first; not in the later parts of one file.</param>
    public static string Write(IEnumerable<BackupSet> sets, bool header = true)
    {
        using var text = new StringWriter(CultureInfo.InvariantCulture);
        using var csv = new CsvWriter(text, CultureInfo.InvariantCulture);
        if (header)
        {
            Row([.. SetFields, .. CopyFields]);
        }

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
        utf8 = utf8.StartsWith(Encoding.UTF8.Preamble) ? utf8[3..] : utf8;
        string text;
        try
        {
            text = Strict.GetString(utf8);
        }
        catch (DecoderFallbackException e)
        {
            return new(null, [new Fault(file, utf8[..Math.Clamp(e.Index, 0, utf8.Length)].Count((byte)'\n') + 1, "", "holds bytes that are not valid UTF-8")], []);
        }

        if (text.AsSpan().IndexOf('\n') is var end && (end < 0 ? text.Length : end) > LongestField)
        {
            return new(null, [new Fault(file, 1, "", "expected a header with the names of the fields")], []);
        }

        // What the reader would throw for is gathered as faults instead: a quote where none may stand, a row shorter than the header.
        var faults = new List<Fault>();
        var begun = 1;
        var inRow = 0;
        using var csv = new CsvReader(new StringReader(text), new CsvConfiguration(CultureInfo.InvariantCulture)
        {
            BadDataFound = bad =>
            {
                // Each costs as much as the row is long.
                faults.Add(new Fault(file, begun, "", "holds a quote where none may stand"));
                if (++inRow > MostInRow)
                {
                    throw new BadDataException("", "", bad.Context, "a quote where none may stand, again and again");
                }
            },
            MissingFieldFound = null,
            MaxFieldSize = LongestField,
        });
        try
        {
            return Read(csv, faults, file, fleet, skipBad, () => (begun, inRow) = (csv.Parser.RawRow + 1, 0));
        }
        catch (CsvHelperException e)
        {
            return new(null, [.. faults, new Fault(file, begun, "", "is not CSV: " + InputBounds.Quote(e.Message.Split('\n')[0].TrimEnd()))], []);
        }
    }

    private static ReadResult<BackupCatalogue> Read(CsvReader csv, List<Fault> faults, string file, FleetModel fleet, bool skipBad, Func<(int Line, int)> nextRow)
    {
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
        while (nextRow() is var (line, _) && csv.Read())
        {
            if (csv.Parser.Count != csv.HeaderRecord!.Length)
            {
                faults.Add(new Fault(file, line, "", $"has {csv.Parser.Count} fields; the header has {csv.HeaderRecord.Length}"));
                continue;
            }

            if (faults.Count > InputBounds.Faults)
            {
                return new(null, faults, []);
            }

            if (faults.Count > 0 && faults[^1].Line == line)
            {
                continue;
            }

            var key = (csv.GetField("database") ?? "", csv.GetField("id") ?? "");
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

        var read = CatalogueFile.Read(Encoding.UTF8.GetBytes(json.ToString()), file, fleet, skipBad);
        return faults.Count == 0 ? read : new(skipBad ? read.Value : null, [.. faults, .. read.Faults], read.Warnings);

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
