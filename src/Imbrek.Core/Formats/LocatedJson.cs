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
internal sealed partial class LocatedJson
{
    internal const double ShortestRate = 1;

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

    private FaultReport Found => document.Report;

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

        if (m.type != JsonTokenType.String || !(m.text is null ? Instants.TryParse(m.Utf8Text, out var at) : Instants.TryParse(m.text, out at)))
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

    /// <summary>Whether a member is there and not null.</summary>
    public bool Has(string name) => Member(name) is not null;

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
