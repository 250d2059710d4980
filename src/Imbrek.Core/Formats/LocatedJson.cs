using System.Globalization;
using System.Text;
using System.Text.Json;
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

    private static readonly string[] Digits = ["0", "1", "2", "3", "4", "5", "6", "7", "8", "9"];

    private readonly Report report;
    private readonly int line;
    private readonly LocatedJson? parent;
    private readonly string? name;
    private readonly int index;
    private readonly JsonTokenType type;
    private readonly object? value;
    private HashSet<string>? asked;

    private LocatedJson(Report report, int line, LocatedJson? parent, string? name, int index, JsonTokenType type, object? value)
    {
        this.report = report;
        this.line = line;
        this.parent = parent;
        this.name = name;
        this.index = index;
        this.type = type;
        this.value = value;
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
    }

    /// <summary>Parses one document; null after reporting when it is no JSON.</summary>
    public static LocatedJson? Parse(ReadOnlySpan<byte> utf8, Report report, int firstLine = 1)
    {
        var reader = new Utf8JsonReader(utf8, new JsonReaderOptions { CommentHandling = JsonCommentHandling.Disallow });
        var lines = new LineCounter(firstLine);
        try
        {
            reader.Read();
            var values = (utf8.Length / BytesForEachValue) + 16;
            var root = ReadValue(ref reader, utf8, report, null, null, 0, ref lines, ref values);
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
        ref Utf8JsonReader reader, ReadOnlySpan<byte> utf8, Report report, LocatedJson? parent, string? name, int index, ref LineCounter lines, ref int values)
    {
        if (--values < 0)
        {
            throw new JsonException("more values than a document of this size can mean", null, lines.At(utf8, reader.TokenStartIndex) - 1, null);
        }

        var type = reader.TokenType;
        var line = lines.At(utf8, reader.TokenStartIndex);
        switch (type)
        {
            case JsonTokenType.StartObject:
                var members = new Dictionary<string, LocatedJson>();
                var one = new LocatedJson(report, line, parent, name, index, type, members);
                while (reader.Read() && reader.TokenType != JsonTokenType.EndObject)
                {
                    var own = reader.GetString()!;
                    reader.Read();
                    var member = ReadValue(ref reader, utf8, report, one, own, 0, ref lines, ref values);
                    if (!members.TryAdd(own, member))
                    {
                        member.Fault("is given twice");
                    }
                }

                return one;
            case JsonTokenType.StartArray:
                var items = new List<LocatedJson>();
                var list = new LocatedJson(report, line, parent, name, index, type, items);
                while (reader.Read() && reader.TokenType != JsonTokenType.EndArray)
                {
                    items.Add(ReadValue(ref reader, utf8, report, list, null, items.Count, ref lines, ref values));
                }

                return list;
            case JsonTokenType.String:
                return new(report, line, parent, name, index, type, reader.GetString());
            case JsonTokenType.Number:
                var digits = reader.ValueSpan;
                return new(report, line, parent, name, index, type, digits.Length == 1 ? Digits[digits[0] - '0'] : Encoding.ASCII.GetString(digits));
            default:
                return new(report, line, parent, name, index, type, null);
        }
    }

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

    public int FaultCount => report.FaultCount;

    public bool HasFaults => report.Faults.Count > 0;

    public bool IsObject => type == JsonTokenType.StartObject;

    public void Fault(string message)
    {
        if (!report.CountOnly())
        {
            report.Fault(line, Path, message);
        }
    }

    public void FaultAt(string member, string message)
    {
        if (!report.CountOnly())
        {
            report.Fault(Member(member)?.line ?? line, Join(member), message);
        }
    }

    private string Join(string member) => parent is null ? member : $"{Path}.{member}";

    private LocatedJson? Member(string name)
    {
        (asked ??= []).Add(name);
        return value is Dictionary<string, LocatedJson> members && members.TryGetValue(name, out var found) && found.type != JsonTokenType.Null
            ? found
            : null;
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

        if (m.type != JsonTokenType.String || (required && ((string)m.value!).Length == 0))
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
        var text = (string)value!;
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
        var expected = $"a number from {Say(atLeast)} to {Say(atMost)}";
        if (Member(name) is not { } m)
        {
            return Missing<double?>(name, required, expected);
        }

        if (m.AsNumber() is not { } d || d < atLeast || d > atMost)
        {
            m.Fault($"expected {expected}");
            return null;
        }

        return d;
    }

    private static string Say(double number) => number.ToString(CultureInfo.InvariantCulture);

    private double? AsNumber() => type == JsonTokenType.Number && double.TryParse((string)value!, NumberStyles.Float, CultureInfo.InvariantCulture, out var d) && double.IsFinite(d)
        ? d
        : null;

    public long? Integer(string name, bool required = true, long atLeast = long.MinValue, long atMost = long.MaxValue)
    {
        var expected = (atLeast, atMost) switch
        {
            (long.MinValue, long.MaxValue) => "a whole number",
            (_, long.MaxValue) => $"a whole number of at least {atLeast}",
            _ => $"a whole number from {atLeast} to {atMost}",
        };
        if (Member(name) is not { } m)
        {
            return Missing<long?>(name, required, expected);
        }

        if (m.type == JsonTokenType.Number)
        {
            var text = (string)m.value!;
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

        m.Fault($"expected {expected}");
        return null;
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

        if (m.type != JsonTokenType.String || !Instants.TryParse((string)m.value!, out var at))
        {
            m.Fault($"expected {expected}");
            return null;
        }

        return at;
    }

    public T? Choice<T>(string name, IReadOnlyDictionary<string, T> choices, bool required = true)
        where T : struct
    {
        var expected = $"one of {string.Join(", ", choices.Keys)}";
        if (Member(name) is not { } m)
        {
            return Missing<T?>(name, required, expected);
        }

        if (m.type != JsonTokenType.String || !choices.TryGetValue((string)m.value!, out var choice))
        {
            m.Fault($"expected {expected}");
            return null;
        }

        return choice;
    }

    /// <summary>A list of texts; what stands in it more than <paramref name="items"/> times is a fault.</summary>
    public IReadOnlyList<string> Texts(string name, int items = 100_000)
    {
        if (Member(name) is not { } m)
        {
            return [];
        }

        if (m.value is not List<LocatedJson> list || list.Exists(i => i.type != JsonTokenType.String))
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

        if (m.value is not List<LocatedJson> items)
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

        if (m.value is not List<LocatedJson> items)
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
        if (value is Dictionary<string, LocatedJson> members)
        {
            foreach (var (unknown, member) in members.Where(m => asked?.Contains(m.Key) != true))
            {
                if (report.WarnedEnough)
                {
                    return;
                }

                report.Warn(member.line, member.Path, $"'{InputBounds.Quote(unknown)}' is not a member known here; it was left aside");
            }
        }
    }
}
