using System.Text.Json;
using System.Text.Json.Serialization;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;

namespace Imbrek.Core.Runs;

/// <summary>How what a run keeps as JSON is written.</summary>
public static class RunJson
{
    /// <summary>How values are written: members in camel case, left out where they say nothing, enumerations as words, instants as text.</summary>
    public static JsonSerializerOptions Options { get; } =
        new JsonSerializerOptions(JsonSerializerDefaults.Web)
        {
            DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingDefault,
            Converters = { new JsonStringEnumConverter(JsonNamingPolicy.CamelCase) },
        }.ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);

    private sealed record Kept(Step Plan, StepProgress Is);

    /// <summary>Writes a value.</summary>
    public static string Write<T>(T value) => JsonSerializer.Serialize(value, Options);

    /// <summary>Reads a value that was written.</summary>
    /// <exception cref="JsonException">It is none.</exception>
    public static T Read<T>(string json) => JsonSerializer.Deserialize<T>(json, Options)!;

    /// <summary>The steps of a run with what has become of them.</summary>
    public static string WriteSteps(Run run) => Write(run.Plan.Steps.Select(s => new Kept(s, run[s.Number])));

    /// <summary>The run that was written.</summary>
    /// <param name="steps">Its steps; null for none.</param>
    /// <param name="cancelledBy">Who cancelled it; null when nobody did.</param>
    /// <exception cref="JsonException">They cannot be read.</exception>
    public static Run ReadRun(string? steps, string? cancelledBy)
    {
        var kept = Read<Kept[]>(steps ?? "[]");
        return new Run(new RunPlan([.. kept.Select(k => k.Plan)]), kept.ToDictionary(k => k.Plan.Number, k => k.Is), cancelledBy);
    }
}
