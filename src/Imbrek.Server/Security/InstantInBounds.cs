using System.Text.Json;
using System.Text.Json.Serialization;
using Imbrek.Core.Formats;
using NodaTime;

namespace Imbrek.Server.Security;

/// <summary>Instants in bodies of requests, by the same bounds as everywhere.</summary>
internal sealed class InstantInBounds : JsonConverter<Instant>
{
    /// <inheritdoc/>
    public override Instant Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        reader.TokenType == JsonTokenType.String && Instants.TryParse(reader.GetString()!, out var at) ? at : throw new JsonException($"expected {Instants.Expected}");

    /// <inheritdoc/>
    public override void Write(Utf8JsonWriter writer, Instant value, JsonSerializerOptions options) => writer.WriteStringValue(NodaTime.Text.InstantPattern.ExtendedIso.Format(value));
}
