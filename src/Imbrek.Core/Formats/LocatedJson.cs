using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.Unicode;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>
/// A JSON value that knows its line and its place, and collects what is wrong as its members are asked for. What it costs is bounded by the
/// size of the text: a place is put into words only for a fault, faults beyond <see cref="InputBounds.Faults"/> are counted only, and a
/// document of nothing but brackets is refused before it fills the memory.
/// </summary>
internal sealed class LocatedJson
{
    /// <summary>Of a document with more values than one for so many bytes nothing is kept: it is none of ours.</summary>
    private const int BytesForEachValue = 4;

    private const double ShortestRate = 1;

    private const int FewMembers = 24;

    private readonly Document document;
    private int line;
    private LocatedJson? parent;
    private string? name;
    private int index;
    private JsonTokenType type;

    /// <summary>The members of an object, the items of a list.</summary>
    private List<LocatedJson>? parts;

    /// <summary>The members by their names, when they are many; few are looked through one by one, which costs less than a table of them.</summary>
    private Dictionary<string, LocatedJson>? byName;

    /// <summary>A text that had to be put together. Of any other text or number only the place is kept: most are asked for once.</summary>
    private string? text;
    private int start;
    private int length;
    private bool asked;

    private LocatedJson(Document document) => this.document = document;

    /// <summary>The text of a document, and where its faults go. One may be used for documents one after the other: their values are then made once, and those of the one before are void.</summary>
    internal sealed class Document(Report report)
    {
        private readonly List<LocatedJson> values = [];
        private int used;

        public Report Report => report;

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

    /// <summary>Where faults and warnings are gathered.</summary>
    internal sealed class Report(string file)
    {
        private int unlisted;

        public List<Fault> Faults { get; } = [];

        public List<Fault> Warnings { get; } = [];

        /// <summary>How many faults there are, listed or not.</summary>
        public int FaultCount => Faults.Count + unlisted;

        /// <summary>Whether no more warnings are listed.</summary>
        public bool WarnedEnough => Warnings.Count >= InputBounds.Faults;

        public void Fault(int line, string member, string message)
        {
            if (!CountOnly())
            {
                Faults.Add(new(file, line, member, message));
            }
        }

        /// <summary>Counts a fault that is not listed, because there are enough; whoever asks first need not say what is wrong.</summary>
        public bool CountOnly()
        {
            if (Faults.Count < InputBounds.Faults)
            {
                return false;
            }

            unlisted++;
            return true;
        }

        public void Warn(int line, string member, string message) => Warnings.Add(new(file, line, member, message));

        /// <summary>Adds what was found in the part of the document that follows this one's.</summary>
        public void Add(Report next)
        {
            var listed = Math.Min(next.Faults.Count, InputBounds.Faults - Faults.Count);
            Faults.AddRange(next.Faults.Take(listed));
            unlisted += next.FaultCount - listed;
            Warnings.AddRange(next.Warnings.Take(InputBounds.Faults - Warnings.Count));
        }
    }

    /// <summary>Parses one document; null after reporting when it is no JSON.</summary>
    public static LocatedJson? Parse(ReadOnlyMemory<byte> text, Report report, int firstLine = 1) => Parse(text, new Document(report), firstLine);

    /// <inheritdoc cref="Parse(ReadOnlyMemory{byte}, Report, int)"/>
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

    private Report Found => document.Report;

    /// <summary>The bytes of a number, or of a text without escapes.</summary>
    private ReadOnlySpan<byte> Utf8Text => document.Text.Span.Slice(start, length);

    private string AsText => text ?? Encoding.UTF8.GetString(Utf8Text);

    public int Line => line;

    /// <summary>Where it stands: <c>databases[3].host</c>; names as long as a message can bear.</summary>
    public string Path
    {
        get
        {
            var parts = new List<string>();
            for (var at = this; at.parent is not null; at = at.parent)
            {
                parts.Add(at.name is { } own ? (at.parent.parent is null ? "" : ".") + InputBounds.Quote(own) : string.Create(CultureInfo.InvariantCulture, $"[{at.index}]"));
            }

            parts.Reverse();
            return string.Concat(parts);
        }
    }

    public int FaultCount => Found.FaultCount;

    public bool HasFaults => Found.Faults.Count > 0;

    public bool IsObject => type == JsonTokenType.StartObject;

    public void Fault(string message)
    {
        if (!Found.CountOnly())
        {
            Found.Fault(line, Path, message);
        }
    }

    public void FaultAt(string member, string message)
    {
        if (!Found.CountOnly())
        {
            Found.Fault(Member(member)?.line ?? line, Join(member), message);
        }
    }

    private string Join(string member) => parent is null ? member : $"{Path}.{member}";

    private LocatedJson? Member(string name)
    {
        if (!IsObject || Find(name) is not { } found)
        {
            return null;
        }

        found.asked = true;
        return found.type == JsonTokenType.Null ? null : found;
    }

    private T? Missing<T>(string name, bool required, string expected)
    {
        if (required)
        {
            FaultAt(name, $"is missing; expected {expected}");
        }

        return default;
    }

    /// <summary>A text that holds nothing a screen, a file name or a table could trip over, at most so long.</summary>
    public string? Text(string name, bool required = true, int most = InputBounds.Name)
    {
        const string expected = "a text";
        if (Member(name) is not { } m)
        {
            return Missing<string>(name, required, expected);
        }

        if (m.type != JsonTokenType.String || (required && m.text is null or "" && m.length == 0))
        {
            m.Fault($"expected {expected}{(required ? " that is not empty" : "")}");
            return null;
        }

        return m.Checked(most);
    }

    /// <summary>An identifier, by the rule of <see cref="InputBounds.WhatIsWrongWithId"/>.</summary>
    public string? Identifier(string name, bool required = true, int most = InputBounds.Name)
    {
        if (Text(name, required, most) is not { } id)
        {
            return null;
        }

        if (InputBounds.WhatIsWrongWithId(id, most) is { } wrong)
        {
            Member(name)!.Fault(wrong);
            return null;
        }

        return id;
    }

    private string? Checked(int most)
    {
        var text = AsText;
        if (InputBounds.WhatIsWrong(text, most) is { } wrong)
        {
            Fault(wrong);
            return null;
        }

        return text;
    }

    /// <summary>A rate above nothing, in bytes per second.</summary>
    public double? Rate(string name, bool required = true) => Number(name, required, ShortestRate, InputBounds.Rate);

    /// <summary>A span in seconds, from nothing to about 95 years, kept to the millisecond.</summary>
    public double? Seconds(string name, bool required = false, bool above = false) => Number(name, required, above ? InputBounds.ShortestSeconds : 0, InputBounds.Seconds) is { } s
        ? Math.Round(s, 3)
        : null;

    /// <summary>A number of bytes.</summary>
    public long? Bytes(string name, bool required = true) => Integer(name, required, 0, InputBounds.Bytes);

    public double? Number(string name, bool required = true, double atLeast = 0, double atMost = 1e15)
    {
        if (Member(name) is not { } m)
        {
            return required ? Missing<double?>(name, true, Expected()) : null;
        }

        if (m.AsNumber() is not { } d || d < atLeast || d > atMost)
        {
            m.Fault($"expected {Expected()}");
            return null;
        }

        return d;

        string Expected() => $"a number from {Say(atLeast)} to {Say(atMost)}";
    }

    private static string Say(double number) => number.ToString(CultureInfo.InvariantCulture);

    private double? AsNumber() => type == JsonTokenType.Number && double.TryParse(Utf8Text, NumberStyles.Float, CultureInfo.InvariantCulture, out var d) && double.IsFinite(d)
        ? d
        : null;

    public long? Integer(string name, bool required = true, long atLeast = long.MinValue, long atMost = long.MaxValue)
    {
        if (Member(name) is not { } m)
        {
            return required ? Missing<long?>(name, true, Expected()) : null;
        }

        if (m.type == JsonTokenType.Number)
        {
            var text = m.Utf8Text;
            if (long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var l) && l >= atLeast && l <= atMost)
            {
                return l;
            }

            // 5e9 and 100.0 are whole numbers too.
            if (decimal.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var d) && d == decimal.Truncate(d) && d >= atLeast && d <= atMost)
            {
                return (long)d;
            }
        }

        m.Fault($"expected {Expected()}");
        return null;

        string Expected() => (atLeast, atMost) switch
        {
            (long.MinValue, long.MaxValue) => "a whole number",
            (_, long.MaxValue) => $"a whole number of at least {atLeast}",
            _ => $"a whole number from {atLeast} to {atMost}",
        };
    }

    public bool? Flag(string name)
    {
        if (Member(name) is not { } m)
        {
            return null;
        }

        if (m.type is not (JsonTokenType.True or JsonTokenType.False))
        {
            m.Fault("expected true or false");
            return null;
        }

        return m.type == JsonTokenType.True;
    }

    public Instant? Time(string name, bool required = true)
    {
        const string expected = Instants.Expected;
        if (Member(name) is not { } m)
        {
            return Missing<Instant?>(name, required, expected);
        }

        if (m.type != JsonTokenType.String || !Instants.TryParse(m.AsText, out var at))
        {
            m.Fault($"expected {expected}");
            return null;
        }

        return at;
    }

    public T? Choice<T>(string name, IReadOnlyDictionary<string, T> choices, bool required = true)
        where T : struct
    {
        if (Member(name) is not { } m)
        {
            return required ? Missing<T?>(name, true, Expected()) : null;
        }

        if (m.type != JsonTokenType.String || !choices.TryGetValue(m.AsText, out var choice))
        {
            m.Fault($"expected {Expected()}");
            return null;
        }

        return choice;

        string Expected() => $"one of {string.Join(", ", choices.Keys)}";
    }

    /// <summary>A list of texts; what stands in it more than <paramref name="items"/> times is a fault.</summary>
    public IReadOnlyList<string> Texts(string name, int items = 100_000)
    {
        if (Member(name) is not { } m)
        {
            return [];
        }

        if (m.type != JsonTokenType.StartArray || m.parts is not { } list || list.Exists(i => i.type != JsonTokenType.String))
        {
            m.Fault("expected a list of texts");
            return [];
        }

        if (list.Count > items)
        {
            m.Fault($"holds more than {items}");
            return [];
        }

        return [.. list.Select(i => i.Checked(InputBounds.Name)).OfType<string>()];
    }

    /// <summary>A list of numbers from 0 to the largest rate; empty when it is left out.</summary>
    public IReadOnlyList<double> Numbers(string name)
    {
        if (Member(name) is not { } m)
        {
            return [];
        }

        if (m.type != JsonTokenType.StartArray || m.parts is not { } items)
        {
            m.Fault("expected a list of numbers");
            return [];
        }

        var numbers = new List<double>();
        foreach (var item in items)
        {
            if (item.AsNumber() is { } d && d is >= 0 and <= InputBounds.Rate)
            {
                numbers.Add(d);
            }
            else
            {
                item.Fault($"expected a number from 0 to {Say(InputBounds.Rate)}");
            }
        }

        return numbers;
    }

    /// <summary>One object; null when it is left out.</summary>
    public LocatedJson? Object(string name)
    {
        if (Member(name) is not { } m)
        {
            return null;
        }

        if (!m.IsObject)
        {
            m.Fault("expected an object");
            return null;
        }

        return m;
    }

    public IReadOnlyList<LocatedJson> Objects(string name, bool required = false)
    {
        if (Member(name) is not { } m)
        {
            Missing<object>(name, required, "a list");
            return [];
        }

        if (m.type != JsonTokenType.StartArray || m.parts is not { } items)
        {
            m.Fault("expected a list");
            return [];
        }

        foreach (var bad in items.Where(i => !i.IsObject))
        {
            bad.Fault("expected an object");
        }

        return [.. items.Where(i => i.IsObject)];
    }

    /// <summary>Warns of members nobody asked for.</summary>
    public void WarnOfUnknown()
    {
        if (IsObject)
        {
            foreach (var member in parts!.Where(m => !m.asked))
            {
                if (Found.WarnedEnough)
                {
                    return;
                }

                Found.Warn(member.line, member.Path, $"'{InputBounds.Quote(member.name!)}' is not a member known here; it was left aside");
            }
        }
    }
}
