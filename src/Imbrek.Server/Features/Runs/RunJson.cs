using System.Text.Json;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;

namespace Imbrek.Server.Features.Runs;

/// <summary>How what a run keeps as JSON is written.</summary>
internal static class RunJson
{
    public static readonly JsonSerializerOptions Options =
        new JsonSerializerOptions(JsonSerializerDefaults.Web).ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);

    public static T Read<T>(string json) => JsonSerializer.Deserialize<T>(json, Options)!;
}
