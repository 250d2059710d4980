using System.Text.Json;

namespace Imbrek.Server.Tests;

/// <summary>Short ways to the members of an answer.</summary>
internal static class Members
{
    public static JsonElement[] Of(JsonElement parent, string member) => [.. parent.GetProperty(member).EnumerateArray()];

    public static string Text(JsonElement e, string member) => e.GetProperty(member).GetString()!;

    public static DateTimeOffset Time(JsonElement e, string member) => e.GetProperty(member).GetDateTimeOffset();
}
