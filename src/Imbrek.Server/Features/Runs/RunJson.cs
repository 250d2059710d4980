using System.Text.Json;
using System.Text.Json.Serialization;
using Imbrek.Core.Runs;
using Imbrek.Data;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;

namespace Imbrek.Server.Features.Runs;

/// <summary>How what a run keeps as JSON is written.</summary>
internal static class RunJson
{
    public static readonly JsonSerializerOptions Options =
        new JsonSerializerOptions(JsonSerializerDefaults.Web)
        {
            DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingDefault,
            Converters = { new JsonStringEnumConverter(JsonNamingPolicy.CamelCase) },
        }.ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);

    private sealed record Kept(Step Plan, StepProgress Is);

    public static string Write<T>(T value) => JsonSerializer.Serialize(value, Options);

    public static T Read<T>(string json) => JsonSerializer.Deserialize<T>(json, Options)!;

    /// <summary>The steps of a run with what has become of them.</summary>
    public static string WriteSteps(Run run) => Write(run.Plan.Steps.Select(s => new Kept(s, run[s.Number])));

    /// <summary>The run that a row keeps.</summary>
    public static Run ReadRun(RunRow row)
    {
        var kept = Read<Kept[]>(row.Steps ?? "[]");
        return new Run(new RunPlan([.. kept.Select(k => k.Plan)]), kept.ToDictionary(k => k.Plan.Number, k => k.Is), row.CancelledBy);
    }
}
