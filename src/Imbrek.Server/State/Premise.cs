using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Server.State;

/// <summary>The sentence every figure answers: suppose this loss, at this instant.</summary>
/// <param name="Loss">The loss; a bare kind is the one each database lies on.</param>
/// <param name="At">The instant; null for now.</param>
internal sealed record Premise(Loss Loss, Instant? At)
{
    /// <summary>Reads the query parameters <c>loss</c> and <c>at</c>.</summary>
    /// <exception cref="BadInputException">One of them cannot be read; names it.</exception>
    public static Premise Read(string? loss, string? at, FleetModel fleet, Instant now)
    {
        if (!Loss.TryParse(string.IsNullOrEmpty(loss) ? "none" : loss, fleet, out var read, out var error))
        {
            throw new BadInputException("loss", error);
        }

        if (string.IsNullOrEmpty(at) || at == "now")
        {
            return new(read, null);
        }

        var instant = ReadInstant("at", at);
        return instant > now ? throw new BadInputException("at", "lies in the future") : new(read, instant);
    }

    /// <summary>Reads a query parameter that holds an instant.</summary>
    /// <exception cref="BadInputException">It holds something else; names it.</exception>
    public static Instant ReadInstant(string member, string text) =>
        Instants.TryParse(text, out var t) ? t : throw new BadInputException(member, $"'{text}' is not an instant in UTC, such as 2026-03-01T02:41:00Z");

    /// <summary>The same for one that may be left out.</summary>
    public static Instant? ReadInstantOrNull(string member, string? text) => string.IsNullOrEmpty(text) ? null : ReadInstant(member, text);
}
