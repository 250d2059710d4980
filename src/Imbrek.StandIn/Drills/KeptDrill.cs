namespace Imbrek.StandIn.Drills;

/// <summary>What is remembered of a drill that is looked on at; instants are milliseconds.</summary>
/// <param name="Run">The run.</param>
/// <param name="Database">The database.</param>
/// <param name="Here">The host it ran on at the beginning.</param>
/// <param name="There">The host its roles are to change to.</param>
/// <param name="Address">The host the usual address leads to.</param>
/// <param name="ClientKnows">The host a client goes to until it asks again.</param>
/// <param name="EndsAt">When nobody looks on any more, whatever becomes of the run.</param>
/// <param name="Trail">What was seen.</param>
public sealed record KeptDrill(Guid Run, string Database, string Here, string There, string Address, string ClientKnows, long EndsAt, List<KeptDrill.Span> Trail)
{
    /// <summary>A time in which the same was seen each second.</summary>
    public readonly record struct Span(long From, long To, bool Here, bool There, bool Clients);
}
