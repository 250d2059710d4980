using System.Text.Json;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.StandIn.Replication;

/// <summary>A change of the primary as the world remembers it, so that whoever asks again is told the same.</summary>
internal static class KeptPromotion
{
    /// <summary>Has a database live on as another, once for a run, and remembers what it came to in the same step.</summary>
    /// <param name="world">The world.</param>
    /// <param name="call">Who calls.</param>
    /// <param name="seconds">How long it takes.</param>
    /// <param name="what">What is done.</param>
    /// <param name="cancel">Breaks it off.</param>
    public static async Task<Promotion> OnceAsync(World world, RunCall call, double seconds, Func<Promotion> what, CancellationToken cancel) => Read(await world.Answers.ActAsync(
        call,
        seconds,
        () =>
        {
            if (world.Answers.Told(call) is { } before)
            {
                return before;
            }

            var made = Write(what());
            world.Answers.Tell(call.Run, made);
            return made;
        },
        cancel));

    /// <summary>Reads what was remembered.</summary>
    public static Promotion Read(string kept)
    {
        var k = JsonSerializer.Deserialize<Kept>(kept)!;
        return new Promotion(
            k.Seconds, new Branch(k.Id, k.Parent, k.ForkPosition, Instant.FromUnixTimeMilliseconds(k.ForkAt), Instant.FromUnixTimeMilliseconds(k.StartsAt)), new(k.Host), k.LostSeconds, k.Lost,
            [.. k.Left.Zip(k.Why, (r, w) => new Promotion.LeftBehind(new(r), w))], k.Version);
    }

    private static string Write(Promotion p) => JsonSerializer.Serialize(new Kept(
        p.Seconds, p.Branch.Id, p.Branch.Parent, p.Branch.ForkPosition, p.Branch.ForkAt.ToUnixTimeMilliseconds(), p.Branch.StartsAt.ToUnixTimeMilliseconds(), p.Host.Value, p.LostSeconds, p.LostTransactions,
        [.. p.Left.Select(l => l.Replica.Value)], [.. p.Left.Select(l => l.Why)], p.Version));

    private sealed record Kept(double Seconds, int Id, int Parent, long ForkPosition, long ForkAt, long StartsAt, string Host, double LostSeconds, long? Lost, string[] Left, string[] Why, string? Version = null);
}
