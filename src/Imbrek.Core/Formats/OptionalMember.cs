using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>A member of the fleet file that may be left out: how it is read, written and described.</summary>
/// <typeparam name="T">The thing it is a member of.</typeparam>
/// <param name="Name">Its name in the file.</param>
/// <param name="Schema">What JSON Schema says of it.</param>
/// <param name="Read">Reads it into a thing; reports what is wrong with it, and leaves the thing as it is when it is left out.</param>
/// <param name="Write">Its value as it is written.</param>
internal sealed record OptionalMember<T>(string Name, JsonObject Schema, Func<LocatedJson, T, T> Read, Func<T, object?> Write)
{
    private const int MostSettings = 100;

    /// <summary>A text of one line.</summary>
    public static OptionalMember<T> Text(string name, Func<T, string?> get, Func<T, string, T> set) => new(
        name,
        new() { ["type"] = new JsonArray("string", "null"), ["maxLength"] = InputBounds.Name },
        (j, t) => j.Text(name, false) is { } v ? set(t, v) : t,
        get);

    /// <summary>Texts, each of one line.</summary>
    public static OptionalMember<T> Texts(string name, Func<T, IReadOnlyList<string>> get, Func<T, IReadOnlyList<string>, T> set) => new(
        name,
        new() { ["$ref"] = "#/$defs/names" },
        (j, t) => j.Texts(name) is { Count: > 0 } v ? set(t, v) : t,
        get);

    /// <summary>Settings with their values, each once.</summary>
    public static OptionalMember<T> Settings(string name, Func<T, IReadOnlyList<Setting>> get, Func<T, IReadOnlyList<Setting>, T> set) => new(
        name,
        new()
        {
            ["type"] = "array",
            ["maxItems"] = MostSettings,
            ["items"] = new JsonObject
            {
                ["type"] = "object",
                ["additionalProperties"] = false,
                ["required"] = new JsonArray("name", "value"),
                ["properties"] = new JsonObject { ["name"] = new JsonObject { ["type"] = "string", ["minLength"] = 1, ["maxLength"] = InputBounds.Name }, ["value"] = new JsonObject { ["type"] = "string", ["minLength"] = 1, ["maxLength"] = InputBounds.Name } },
            },
        },
        (j, t) =>
        {
            var said = j.Objects(name);
            if (said.Count > MostSettings)
            {
                j.FaultAt(name, $"holds more than {MostSettings}");
                return t;
            }

            var settings = new List<Setting>();
            foreach (var s in said)
            {
                if (s.Text("name") is { } setting && s.Text("value") is { } value)
                {
                    if (settings.Exists(x => x.Name == setting))
                    {
                        s.FaultAt("name", "is named twice");
                    }

                    settings.Add(new(setting, value));
                }
            }

            return settings.Count == 0 ? t : set(t, settings);
        },
        t => get(t).Select(s => new { name = s.Name, value = s.Value }).ToArray());

    /// <summary>Some of a few words, each once.</summary>
    public static OptionalMember<T> Words<TWord>(string name, IReadOnlyDictionary<string, TWord> words, Func<T, IReadOnlyList<TWord>> get, Func<T, IReadOnlyList<TWord>, T> set)
        where TWord : struct => new(
        name,
        new() { ["type"] = "array", ["uniqueItems"] = true, ["items"] = new JsonObject { ["enum"] = new JsonArray([.. words.Keys.Select(w => (JsonNode)w)]) } },
        (j, t) =>
        {
            var said = j.Texts(name);
            for (var i = 0; i < said.Count; i++)
            {
                if (!words.ContainsKey(said[i]))
                {
                    j.FaultAt($"{name}[{i}]", $"'{InputBounds.Quote(said[i])}' is not one of {string.Join(", ", words.Keys)}");
                    return t;
                }
            }

            if (said.Distinct().Count() != said.Count)
            {
                j.FaultAt(name, "names one of them twice");
                return t;
            }

            return said.Count == 0 ? t : set(t, [.. said.Select(w => words[w])]);
        },
        t => get(t).Select(v => words.First(w => EqualityComparer<TWord>.Default.Equals(w.Value, v)).Key).ToArray());

    /// <summary>A whole number within bounds.</summary>
    public static OptionalMember<T> Count(string name, int atLeast, int atMost, Func<T, int?> get, Func<T, int, T> set) => new(
        name,
        new() { ["type"] = new JsonArray("integer", "null"), ["minimum"] = atLeast, ["maximum"] = atMost },
        (j, t) => j.Integer(name, false, atLeast, atMost) is { } v ? set(t, (int)v) : t,
        t => get(t));

    /// <summary>A number of bytes.</summary>
    public static OptionalMember<T> Bytes(string name, Func<T, long?> get, Func<T, long, T> set) => new(
        name,
        new() { ["type"] = new JsonArray("integer", "null"), ["minimum"] = 0, ["maximum"] = InputBounds.Bytes },
        (j, t) => j.Bytes(name, false) is { } v ? set(t, v) : t,
        t => get(t));

    /// <summary>A number within bounds.</summary>
    public static OptionalMember<T> Number(string name, double atLeast, double atMost, Func<T, double?> get, Func<T, double, T> set) => new(
        name,
        new() { ["type"] = new JsonArray("number", "null"), ["minimum"] = atLeast, ["maximum"] = atMost },
        (j, t) => j.Number(name, false, atLeast, atMost) is { } v ? set(t, v) : t,
        t => get(t));

    /// <summary>A span in seconds.</summary>
    public static OptionalMember<T> Seconds(string name, Func<T, double> get, Func<T, double, T> set) => new(
        name,
        new() { ["$ref"] = "#/$defs/seconds" },
        (j, t) => j.Seconds(name) is { } v ? set(t, v) : t,
        t => get(t));

    /// <summary>A rate above nothing, in bytes per second.</summary>
    public static OptionalMember<T> Rate(string name, Func<T, double?> get, Func<T, double, T> set) => new(
        name,
        new() { ["type"] = new JsonArray("number", "null"), ["minimum"] = LocatedJson.ShortestRate, ["maximum"] = InputBounds.Rate },
        (j, t) => j.Rate(name, false) is { } v ? set(t, v) : t,
        t => get(t));

    /// <summary>A span in seconds that may not be known.</summary>
    public static OptionalMember<T> MaybeSeconds(string name, Func<T, double?> get, Func<T, double, T> set) => new(
        name,
        new() { ["type"] = new JsonArray("number", "null"), ["minimum"] = 0, ["maximum"] = InputBounds.Seconds },
        (j, t) => j.Seconds(name) is { } v ? set(t, v) : t,
        t => get(t));

    /// <summary>An instant.</summary>
    public static OptionalMember<T> Time(string name, Func<T, Instant?> get, Func<T, Instant, T> set) => new(
        name,
        new() { ["type"] = new JsonArray("string", "null"), ["format"] = "date-time" },
        (j, t) => j.Time(name, false) is { } v ? set(t, v) : t,
        t => Instants.Write(get(t)));

    /// <summary>Yes or no.</summary>
    public static OptionalMember<T> Flag(string name, Func<T, bool> get, Func<T, bool, T> set) => new(
        name,
        new() { ["type"] = "boolean" },
        (j, t) => j.Flag(name) is { } v ? set(t, v) : t,
        t => get(t));

    /// <summary>One of a few words.</summary>
    public static OptionalMember<T> Choice<TChoice>(string name, IReadOnlyDictionary<string, TChoice> words, Func<T, TChoice> get, Func<T, TChoice, T> set)
        where TChoice : struct => new(
        name,
        new() { ["enum"] = new JsonArray([.. words.Keys.Select(w => (JsonNode)w)]) },
        (j, t) => j.Choice(name, words, false) is { } v ? set(t, v) : t,
        t => words.First(w => EqualityComparer<TChoice>.Default.Equals(w.Value, get(t))).Key);
}
