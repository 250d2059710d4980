using System.Text;
using System.Text.Json;
using System.Text.Unicode;

namespace Imbrek.Core.Formats;

/// <content>How a document becomes values; asking them is in the other part.</content>
internal sealed partial class LocatedJson
{
    /// <summary>Of a document with more values than one for so many bytes nothing is kept: it is none of ours.</summary>
    private const int BytesForEachValue = 4;

    private const int FewMembers = 24;

    /// <summary>The text of a document, and where its faults go. One may be used for documents one after the other: their values are then made once, and those of the one before are void.</summary>
    internal sealed class Document(FaultReport report)
    {
        private readonly List<LocatedJson> values = [];
        private int used;

        public FaultReport Report => report;

        public ReadOnlyMemory<byte> Text { get; private set; }

        /// <summary>Whether the whole is valid UTF-8, so that texts may be taken from it later.</summary>
        public bool IsValid { get; private set; }

        public void Begin(ReadOnlyMemory<byte> text)
        {
            Text = text;
            IsValid = Utf8.IsValid(text.Span);
            used = 0;
        }

        public LocatedJson Value(int line, LocatedJson? parent, string? name, int index, JsonTokenType type)
        {
            if (used == values.Count)
            {
                values.Add(new LocatedJson(this));
            }

            var value = values[used++];
            (value.line, value.parent, value.name, value.index, value.type) = (line, parent, name, index, type);
            (value.byName, value.text, value.start, value.length, value.asked) = (null, null, 0, 0, false);
            value.parts?.Clear();
            return value;
        }
    }

    /// <summary>The names of members are few and come again with every line: each is made once.</summary>
    private static readonly HashSet<string>.AlternateLookup<ReadOnlySpan<byte>> Names = new HashSet<string>(
        [
            .. (string[])["type", "id", "database", "kind", "branch", "parent", "fromPosition", "toPosition", "coversFrom", "coversTo", "finishedAt", "dataBytes", "outsideChain", "rollForward"],
            .. (string[])["usableOn", "key", "copies", "store", "availableAt", "removedAt", "lockedUntil", "storedBytes", "state"],
        ],
        new Utf8Names()).GetAlternateLookup<ReadOnlySpan<byte>>();

    /// <summary>Finds names by their bytes.</summary>
    private sealed class Utf8Names : IEqualityComparer<string>, IAlternateEqualityComparer<ReadOnlySpan<byte>, string>
    {
        public bool Equals(string? a, string? b) => a == b;

        public int GetHashCode(string name) => GetHashCode(Encoding.UTF8.GetBytes(name));

        public bool Equals(ReadOnlySpan<byte> utf8, string name) => Ascii.Equals(utf8, name);

        public int GetHashCode(ReadOnlySpan<byte> utf8) => utf8.IsEmpty ? 0 : utf8.Length | (utf8[0] << 8) | (utf8[^1] << 16) | (utf8[utf8.Length / 2] << 24);

        public string Create(ReadOnlySpan<byte> utf8) => Encoding.UTF8.GetString(utf8);
    }

    /// <summary>Parses one document; null after reporting when it is no JSON.</summary>
    public static LocatedJson? Parse(ReadOnlyMemory<byte> text, FaultReport report, int firstLine = 1) => Parse(text, new Document(report), firstLine);

    /// <inheritdoc cref="Parse(ReadOnlyMemory{byte}, FaultReport, int)"/>
    public static LocatedJson? Parse(ReadOnlyMemory<byte> text, Document document, int firstLine)
    {
        document.Begin(text);
        var report = document.Report;
        var utf8 = text.Span;
        var reader = new Utf8JsonReader(utf8, new JsonReaderOptions { CommentHandling = JsonCommentHandling.Disallow });
        var lines = new LineCounter(firstLine);
        try
        {
            reader.Read();
            var values = (utf8.Length / BytesForEachValue) + 16;
            var root = ReadValue(ref reader, document, null, null, 0, ref lines, ref values);
            if (reader.Read())
            {
                report.Fault(firstLine, "", "there is more after the end of the JSON value");
                return null;
            }

            return root;
        }
        catch (JsonException e)
        {
            report.Fault(firstLine + (int)(e.LineNumber ?? 0), "", "not valid JSON: " + InputBounds.Quote(e.Message.Split(" Path:")[0].Split(" LineNumber")[0]));
            return null;
        }
        catch (InvalidOperationException)
        {
            // Thrown when a text is asked for that is none: bytes that are no UTF-8, or half of a surrogate pair.
            report.Fault(lines.At(utf8, reader.TokenStartIndex), "", "holds a text that is not valid UTF-8, or half a character");
            return null;
        }
    }

    private struct LineCounter(int line)
    {
        private int line = line;
        private long at;

        public int At(ReadOnlySpan<byte> utf8, long offset)
        {
            line += utf8[(int)at..(int)offset].Count((byte)'\n');
            at = offset;
            return line;
        }
    }

    private static LocatedJson ReadValue(
        ref Utf8JsonReader reader, Document document, LocatedJson? parent, string? name, int index, ref LineCounter lines, ref int values)
    {
        if (--values < 0)
        {
            throw new JsonException("more values than a document of this size can mean", null, lines.At(document.Text.Span, reader.TokenStartIndex) - 1, null);
        }

        var type = reader.TokenType;
        var line = lines.At(document.Text.Span, reader.TokenStartIndex);
        var value = document.Value(line, parent, name, index, type);
        switch (type)
        {
            case JsonTokenType.StartObject:
                value.parts ??= new(16);
                while (reader.Read() && reader.TokenType != JsonTokenType.EndObject)
                {
                    var own = Names.TryGetValue(reader.ValueSpan, out var known) && !reader.ValueIsEscaped ? known : reader.GetString()!;
                    reader.Read();
                    var member = ReadValue(ref reader, document, value, own, 0, ref lines, ref values);
                    if (value.Find(own) is not null)
                    {
                        member.Fault("is given twice");
                    }
                    else
                    {
                        value.Add(member);
                    }
                }

                break;
            case JsonTokenType.StartArray:
                value.parts ??= [];
                while (reader.Read() && reader.TokenType != JsonTokenType.EndArray)
                {
                    value.parts.Add(ReadValue(ref reader, document, value, null, value.parts.Count, ref lines, ref values));
                }

                break;
            case JsonTokenType.String when reader.ValueIsEscaped || !document.IsValid:
                value.text = reader.GetString();
                break;
            case JsonTokenType.String:
                (value.start, value.length) = ((int)reader.TokenStartIndex + 1, reader.ValueSpan.Length);
                break;
            case JsonTokenType.Number:
                (value.start, value.length) = ((int)reader.TokenStartIndex, reader.ValueSpan.Length);
                break;
        }

        return value;
    }

    private LocatedJson? Find(string name)
    {
        if (byName is not null)
        {
            return byName.GetValueOrDefault(name);
        }

        foreach (var m in parts!)
        {
            if (m.name == name)
            {
                return m;
            }
        }

        return null;
    }

    private void Add(LocatedJson member)
    {
        parts!.Add(member);
        if (byName is not null)
        {
            byName.Add(member.name!, member);
        }
        else if (parts.Count > FewMembers)
        {
            byName = parts.ToDictionary(m => m.name!);
        }
    }
}
