using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>How far one can get over a span of as-of instants: to an instant that stands, or to one that stays a span behind (a replica that keeps up); or nowhere. In milliseconds inside.</summary>
public readonly record struct Reach
{
    private enum Kind
    {
        Nothing,
        Stands,
        Moves,
    }

    private readonly Kind kind;
    private readonly long value;

    private Reach(Kind kind, long value) => (this.kind, this.value) = (kind, value);

    /// <summary>Nothing can be restored.</summary>
    public static Reach Nothing => default;

    /// <summary>Up to an instant, milliseconds of the Unix epoch.</summary>
    internal static Reach To(long instant) => new(Kind.Stands, instant);

    /// <summary>Up to so many milliseconds before the as-of instant.</summary>
    internal static Reach Behind(long lag) => new(Kind.Moves, lag);

    /// <summary>Whether nothing can be restored.</summary>
    public bool IsNothing => kind == Kind.Nothing;

    /// <summary>Whether it moves with the as-of instant, so that exposure stays as it is.</summary>
    public bool Moves => kind == Kind.Moves;

    /// <summary>The latest recoverable instant as of another; null when there is none.</summary>
    public Instant? LatestAt(Instant at) => kind switch
    {
        Kind.Nothing => null,
        Kind.Stands => Instant.FromUnixTimeMilliseconds(value),
        _ => at - Duration.FromMilliseconds(value),
    };

    /// <summary>The latest recoverable instant as of another, milliseconds. Not to be asked of nothing.</summary>
    internal long LatestAt(long at) => kind == Kind.Moves ? at - value : value;
}
