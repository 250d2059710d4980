using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Drivers;

/// <summary>What taking over, or taking a place, came to, as a driver remembers it in plain values: whoever asks again is told the same. Instants are milliseconds of the Unix epoch.</summary>
public sealed record KeptPromotion(double Seconds, int Id, int Parent, long ForkPosition, long ForkAt, long StartsAt, string Host, double LostSeconds, long? Lost, IReadOnlyList<string> Left, IReadOnlyList<string> Why, string? Version = null)
{
    /// <summary>What is remembered of one.</summary>
    public static KeptPromotion Of(Promotion p) => new(
        p.Seconds, p.Branch.Id, p.Branch.Parent, p.Branch.ForkPosition, p.Branch.ForkAt.ToUnixTimeMilliseconds(), p.Branch.StartsAt.ToUnixTimeMilliseconds(), p.Host.Value, p.LostSeconds, p.LostTransactions,
        [.. p.Left.Select(l => l.Replica.Value)], [.. p.Left.Select(l => l.Why)], p.Version);

    /// <summary>The one that is remembered.</summary>
    public Promotion ToPromotion() => new(
        Seconds, new Branch(Id, Parent, ForkPosition, Instant.FromUnixTimeMilliseconds(ForkAt), Instant.FromUnixTimeMilliseconds(StartsAt)), new(Host), LostSeconds, Lost,
        [.. Left.Zip(Why, (r, w) => new Promotion.LeftBehind(new(r), w))], Version);
}
