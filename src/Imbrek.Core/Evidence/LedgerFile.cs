using System.Text;
using System.Text.Json;
using Imbrek.Core.Formats;

namespace Imbrek.Core.Evidence;

/// <summary>The exported ledger: JSON Lines, one entry a line with the body embedded as it was hashed, and the signed head as the last line.</summary>
public static class LedgerFile
{
    private static readonly string[] EntryMembers = ["number", "at", "who", "kind", "database", "body", "previous", "hash"];
    private static readonly string[] HeadMembers = ["type", "number", "hash", "at", "key", "signature"];

    /// <summary>Writes one entry as a line.</summary>
    public static string WriteLine(LedgerEntry e) => Write(json =>
    {
        json.WriteNumber("number", e.Number);
        json.WriteString("at", Instants.Write(e.At));
        json.WriteString("who", e.Who);
        json.WriteString("kind", e.Kind);
        json.WriteString("database", e.Database);
        json.WritePropertyName("body");
        json.WriteRawValue(e.Body);
        json.WriteString("previous", e.Previous);
        json.WriteString("hash", e.Hash);
    });

    /// <summary>Writes the head as a line.</summary>
    public static string WriteLine(LedgerHead head) => Write(json =>
    {
        json.WriteString("type", "head");
        json.WriteNumber("number", head.Number);
        json.WriteString("hash", head.Hash);
        json.WriteString("at", Instants.Write(head.At));
        json.WriteString("key", head.Key);
        json.WriteString("signature", head.Signature);
    });

    private static string Write(Action<Utf8JsonWriter> members)
    {
        using var buffer = new MemoryStream();
        using (var json = new Utf8JsonWriter(buffer))
        {
            json.WriteStartObject();
            members(json);
            json.WriteEndObject();
        }

        return Encoding.UTF8.GetString(buffer.ToArray());
    }

    /// <summary>Reads one line.</summary>
    /// <exception cref="FormatException">The line is neither an entry nor a head, or a member of it is unknown or given twice: what is not hashed must not stand there.</exception>
    public static (LedgerEntry? Entry, LedgerHead? Head) ReadLine(string line)
    {
        try
        {
            using var doc = JsonDocument.Parse(line);
            var r = doc.RootElement;
            if (r.ValueKind != JsonValueKind.Object)
            {
                throw new FormatException("expected an object");
            }

            var head = r.TryGetProperty("type", out _);
            var known = head ? HeadMembers : EntryMembers;
            var seen = new HashSet<string>();
            foreach (var member in r.EnumerateObject())
            {
                if (!known.Contains(member.Name))
                {
                    throw new FormatException($"{InputBounds.Quote(member.Name)}: is not a member of {(head ? "a head" : "an entry")}");
                }

                if (!seen.Add(member.Name))
                {
                    throw new FormatException($"{member.Name}: is given twice");
                }
            }

            var number = Member("number", JsonValueKind.Number).TryGetInt64(out var n) && n >= 0 ? n : throw new FormatException("number: expected a whole number");
            var at = Instants.TryParse(Text("at"), out var written) ? written : throw new FormatException("at: expected an instant in UTC");
            if (head)
            {
                return Text("type") == "head" ? (null, new LedgerHead(number, Text("hash"), at, Text("key"), Text("signature"))) : throw new FormatException("type: expected head");
            }

            return (new LedgerEntry(number, at, Text("who"), Text("kind"), Text("database"), Member("body", null).GetRawText(), Text("previous"), Text("hash")), null);

            string Text(string name) => Member(name, JsonValueKind.String).GetString()!;

            JsonElement Member(string name, JsonValueKind? kind) => r.TryGetProperty(name, out var m) && (kind is null || m.ValueKind == kind)
                ? m
                : throw new FormatException($"{name}: expected {(kind is null ? "a value" : $"a {kind.Value.ToString().ToLowerInvariant()}")}");
        }
        catch (Exception e) when (e is JsonException or InvalidOperationException)
        {
            // The second is thrown for a text that is none: half of a surrogate pair.
            throw new FormatException("not a line of a ledger: " + InputBounds.Quote(e.Message), e);
        }
    }

    /// <summary>Checks a ledger from its first entry on.</summary>
    /// <param name="entries">The entries in order.</param>
    /// <returns>Null when the whole ledger holds; otherwise what is wrong with the first entry that does not.</returns>
    public static string? WhatIsWrong(IEnumerable<LedgerEntry> entries)
    {
        var check = new LedgerCheck();
        foreach (var e in entries)
        {
            check.Add(e);
        }

        return check.WhatIsWrong(needsHead: false);
    }
}
