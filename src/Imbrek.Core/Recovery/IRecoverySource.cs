using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A source of recoverable instants other than backup sets; a replica is one (section 7).</summary>
public interface IRecoverySource
{
    /// <summary>What it offers under a loss, and from when to when it is on offer.</summary>
    /// <param name="loss">The loss, already resolved to a thing.</param>
    /// <returns>Each offer: recoverable instants, on offer for an as-of instant A with <c>From</c> ≤ A &lt; <c>Until</c>.</returns>
    IEnumerable<Offer> OffersUnder(Loss loss);

    /// <summary>Instants that can be reached while the offer stands.</summary>
    /// <param name="Instants">The instants.</param>
    /// <param name="From">The first as-of instant at which it stands.</param>
    /// <param name="Until">The first as-of instant at which it no longer stands; null when it stands on.</param>
    readonly record struct Offer(ClosedInterval Instants, Instant From, Instant? Until);
}
