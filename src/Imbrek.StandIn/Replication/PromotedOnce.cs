using System.Text.Json;
using Imbrek.Core.Drivers;

namespace Imbrek.StandIn.Replication;

/// <summary>A change of the primary as the world remembers it, so that whoever asks again is told the same.</summary>
internal static class PromotedOnce
{
    /// <summary>Has a database live on as another, once for a run, and remembers what it came to in the same step.</summary>
    /// <param name="world">The world.</param>
    /// <param name="call">Who calls.</param>
    /// <param name="seconds">How long it takes.</param>
    /// <param name="what">What is done.</param>
    /// <param name="cancel">Breaks it off.</param>
    public static async Task<Promotion> DoAsync(World world, RunCall call, double seconds, Func<Promotion> what, CancellationToken cancel) => Read(await world.Answers.ActAsync(
        call,
        seconds,
        () =>
        {
            if (world.Answers.Told(call) is { } before)
            {
                return before;
            }

            var made = JsonSerializer.Serialize(KeptPromotion.Of(what()));
            world.Answers.Tell(call.Run, made);
            return made;
        },
        cancel));

    /// <summary>Reads what was remembered.</summary>
    public static Promotion Read(string kept) => JsonSerializer.Deserialize<KeptPromotion>(kept)!.ToPromotion();
}
