namespace Imbrek.StandIn.Engine;

/// <summary>Where a database ran before a replica took over.</summary>
/// <param name="Host">The host.</param>
/// <param name="KeptOut">Whether it was kept out, so that it takes no writes however often it comes back.</param>
/// <param name="Same">Whether it holds what the new primary began with, and nothing beyond.</param>
public sealed record FormerSide(string Host, bool KeptOut, bool Same = false);
