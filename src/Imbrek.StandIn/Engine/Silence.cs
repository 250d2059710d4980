namespace Imbrek.StandIn.Engine;

/// <summary>A span in which a database committed nothing: it was stopped, or what it committed is not on the branch that lives on.</summary>
/// <param name="From">After this instant, milliseconds.</param>
/// <param name="To">Up to and including this one; <see cref="long.MaxValue"/> while it lasts.</param>
/// <param name="Branch">On this branch, and those that came from it.</param>
public sealed record Silence(long From, long To, int Branch);
