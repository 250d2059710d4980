using System.Globalization;
using System.Text;
using System.Text.Json;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Formats;

/// <summary>A JSON value that knows its line and its path, and collects what is wrong as its members are asked for.</summary>
internal sealed class LocatedJson
{
    private readonly Report report;
    private readonly int line;
    private readonly string path;
    private readonly JsonTokenType type;
    private readonly object? value;
    private readonly HashSet<string> asked = [];

    private LocatedJson(Report report, int line, string path, JsonTokenType type, object? value)
    {
        this.report = report;
        this.line = line;
        this.path = path;
        this.type = type;
        this.value = value;
    }

    /// <summary>Where faults and warnings are gathered.</summary>
    internal sealed class Report(string file)
    {
        public List<Fault> Faults { get; } = [];

        public List<Fault> Warnings { get; } = [];

        public void Fault(int line, string member, string message) => Faults.Add(new(file, line, member, message));

        public void Warn(int line, string member, string message) => Warnings.Add(new(file, line, member, message));
    }

    /// <summary>Parses one document; null after reporting when it is no JSON.</summary>
    public static LocatedJson? Parse(ReadOnlySpan<byte> utf8, Report report, int firstLine = 1)
    {
        var reader = new Utf8JsonReader(utf8, new JsonReaderOptions { CommentHandling = JsonCommentHandling.Disallow });
        try
        {
            reader.Read();
            var lines = new LineCounter(firstLine);
            var root = ReadValue(ref reader, utf8, report, "", ref lines);
            if (reader.Read())
            {
                report.Fault(firstLine, "", "there is more after the end of the JSON value");
                return null;
            }

            return root;
        }
        catch (JsonException e)
        {
            report.Fault(firstLine + (int)(e.LineNumber ?? 0), "", "not valid JSON: " + e.Message.Split(" Path:")[0].Split(" LineNumber")[0]);
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

    private static LocatedJson ReadValue(ref Utf8JsonReader reader, ReadOnlySpan<byte> utf8, Report report, string path, ref LineCounter lines)
    {
        var type = reader.TokenType;
        var line = lines.At(utf8, reader.TokenStartIndex);
        switch (type)
        {
            case JsonTokenType.StartObject:
                var members = new Dictionary<string, LocatedJson>();
                while (reader.Read() && reader.TokenType != JsonTokenType.EndObject)
                {
                    var name = reader.GetString()!;
                    reader.Read();
                    var member = ReadValue(ref reader, utf8, report, path.Length == 0 ? name : $"{path}.{name}", ref lines);
                    if (!members.TryAdd(name, member))
                    {
                        report.Fault(member.line, member.path, "is given twice");
                    }
                }

                return new(report, line, path, type, members);
            case JsonTokenType.StartArray:
                var items = new List<LocatedJson>();
                while (reader.Read() && reader.TokenType != JsonTokenType.EndArray)
                {
                    items.Add(ReadValue(ref reader, utf8, report, $"{path}[{items.Count}]", ref lines));
                }

                return new(report, line, path, type, items);
            case JsonTokenType.String:
                return new(report, line, path, type, reader.GetString());
            case JsonTokenType.Number:
                return new(report, line, path, type, Encoding.UTF8.GetString(reader.ValueSpan));
            default:
                return new(report, line, path, type, null);
        }
    }

    public int Line => line;

    public string Path => path;

    public int FaultCount => report.Faults.Count;

    public bool HasFaults => report.Faults.Count > 0;

    public bool IsObject => type == JsonTokenType.StartObject;

    public void Fault(string message) => report.Fault(line, path, message);

    public void FaultAt(string member, string message)
    {
        var known = Member(member);
        report.Fault(known?.line ?? line, Join(member), message);
    }

    private string Join(string member) => path.Length == 0 ? member : $"{path}.{member}";

    private LocatedJson? Member(string name)
    {
        asked.Add(name);
        return value is Dictionary<string, LocatedJson> members && members.TryGetValue(name, out var found) && found.type != JsonTokenType.Null
            ? found
            : null;
    }

    private T? Missing<T>(string name, bool required, string expected)
    {
        if (required)
        {
            report.Fault(line, Join(name), $"is missing; expected {expected}");
        }

        return default;
    }

    public string? Text(string name, bool required = true)
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

        return (string)m.value!;
    }

    public double? Number(string name, bool required = true, double atLeast = 0, bool above = false)
    {
        var expected = above ? $"a number above {atLeast.ToString(CultureInfo.InvariantCulture)}" : $"a number of at least {atLeast.ToString(CultureInfo.InvariantCulture)}";
        if (Member(name) is not { } m)
        {
            return Missing<double?>(name, required, expected);
        }

        if (m.type != JsonTokenType.Number
            || !double.TryParse((string)m.value!, NumberStyles.Float, CultureInfo.InvariantCulture, out var d)
            || !double.IsFinite(d) || d < atLeast || (above && d <= atLeast))
        {
            m.Fault($"expected {expected}");
            return null;
        }

        return d;
    }

    public long? Integer(string name, bool required = true, long atLeast = long.MinValue)
    {
        var expected = atLeast == long.MinValue ? "a whole number" : $"a whole number of at least {atLeast}";
        if (Member(name) is not { } m)
        {
            return Missing<long?>(name, required, expected);
        }

        if (m.type == JsonTokenType.Number)
        {
            var text = (string)m.value!;
            if (long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var l) && l >= atLeast)
            {
                return l;
            }

            // 5e9 and 100.0 are whole numbers too.
            if (decimal.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var d)
                && d == decimal.Truncate(d) && d >= Math.Max(atLeast, long.MinValue) && d <= long.MaxValue)
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
        const string expected = "an instant in UTC, such as 2026-03-01T02:41:00Z";
        if (Member(name) is not { } m)
        {
            return Missing<Instant?>(name, required, expected);
        }

        if (m.type != JsonTokenType.String || InstantPattern.ExtendedIso.Parse((string)m.value!) is not { Success: true } parsed)
        {
            m.Fault($"expected {expected}");
            return null;
        }

        return parsed.Value;
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

    public IReadOnlyList<string> Texts(string name)
    {
        if (Member(name) is not { } m)
        {
            return [];
        }

        if (m.value is not List<LocatedJson> items || items.Exists(i => i.type != JsonTokenType.String))
        {
            m.Fault("expected a list of texts");
            return [];
        }

        return [.. items.Select(i => (string)i.value!)];
    }

    /// <summary>A list of numbers of at least 0; empty when it is left out.</summary>
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
            if (item.type == JsonTokenType.Number && double.TryParse((string)item.value!, NumberStyles.Float, CultureInfo.InvariantCulture, out var d) && double.IsFinite(d) && d >= 0)
            {
                numbers.Add(d);
            }
            else
            {
                item.Fault("expected a number of at least 0");
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
            foreach (var (name, member) in members.Where(m => !asked.Contains(m.Key)))
            {
                report.Warn(member.line, member.path, $"'{name}' is not a member known here; it was left aside");
            }
        }
    }
}
