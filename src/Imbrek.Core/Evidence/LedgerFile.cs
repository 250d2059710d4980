using System.Text;
using System.Text.Json;
using Imbrek.Core.Formats;

namespace Imbrek.Core.Evidence;

/// <summary>The exported ledger: JSON Lines, one entry a line, the body embedded as it was hashed.</summary>
public static class LedgerFile
{
    /// <summary>Writes one entry as a line.</summary>
    public static string WriteLine(LedgerEntry e)
    {
        using var buffer = new MemoryStream();
        using (var json = new Utf8JsonWriter(buffer))
        {
            json.WriteStartObject();
            json.WriteNumber("number", e.Number);
            json.WriteString("at", Instants.Write(e.At));
            json.WriteString("who", e.Who);
            json.WriteString("kind", e.Kind);
            json.WriteString("database", e.Database);
            json.WritePropertyName("body");
            json.WriteRawValue(e.Body);
            json.WriteString("previous", e.Previous);
            json.WriteString("hash", e.Hash);
            json.WriteEndObject();
        }

        return Encoding.UTF8.GetString(buffer.ToArray());
    }

    /// <summary>Reads one line.</summary>
    /// <exception cref="FormatException">The line is no ledger entry.</exception>
    public static LedgerEntry ReadLine(string line)
    {
        try
        {
            using var doc = JsonDocument.Parse(line);
            var r = doc.RootElement;
            return new LedgerEntry(
                Member("number", JsonValueKind.Number).TryGetInt64(out var number) ? number : throw new FormatException("number: expected a whole number"),
                Instants.TryParse(Text("at"), out var at) ? at : throw new FormatException("at: expected an instant in UTC"),
                Text("who"),
                Text("kind"),
                Text("database"),
                r.GetProperty("body").GetRawText(),
                Text("previous"),
                Text("hash"));

            string Text(string name) => Member(name, JsonValueKind.String).GetString()!;

            JsonElement Member(string name, JsonValueKind kind) =>
                r.ValueKind == JsonValueKind.Object && r.TryGetProperty(name, out var m) && m.ValueKind == kind ? m : throw new FormatException($"{name}: expected a {kind.ToString().ToLowerInvariant()}");
        }
        catch (Exception e) when (e is JsonException or KeyNotFoundException)
        {
            throw new FormatException("not a ledger entry: " + e.Message, e);
        }
    }

    /// <summary>Checks a ledger from its first entry on: numbers without gaps, each hash right, each chained to the one before.</summary>
    /// <param name="entries">The entries in order.</param>
    /// <returns>Null when the whole ledger holds; otherwise what is wrong with the first entry that does not.</returns>
    public static string? WhatIsWrong(IEnumerable<LedgerEntry> entries)
    {
        var previous = LedgerEntry.Genesis;
        var expected = 1L;
        foreach (var e in entries)
        {
            if (e.Number != expected)
            {
                return $"entry {expected} is missing: the next one there is {e.Number}";
            }

            if (e.Previous != previous)
            {
                return $"entry {e.Number} is not chained to the one before: it names {e.Previous[..Math.Min(12, e.Previous.Length)]}…, the entry before has {previous[..12]}…";
            }

            if (e.ComputeHash() != e.Hash)
            {
                return $"entry {e.Number} was changed after it was written: its hash does not match";
            }

            (previous, expected) = (e.Hash, expected + 1);
        }

        return null;
    }
}
