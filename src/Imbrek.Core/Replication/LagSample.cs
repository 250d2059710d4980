using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Replication;

/// <summary>What a watcher saw of a replica at an instant.</summary>
/// <param name="Replica">The replica.</param>
/// <param name="Branch">The branch it follows.</param>
/// <param name="At">When it was looked at.</param>
/// <param name="ReceivedTo">It had received all that was committed up to this instant.</param>
/// <param name="AppliedTo">It had applied all that was committed up to this instant, and nothing later; not after <paramref name="ReceivedTo"/>.</param>
/// <param name="PendingBytes">Log received and not applied.</param>
/// <param name="ReceivedPosition">The position received; null when not known.</param>
/// <param name="InStep">Whether every commit since the sample before waited for it, so that it never lacked one.</param>
/// <param name="Unusable">Whether it cannot be used until it is mended; then <paramref name="HeldUpBy"/> says why.</param>
/// <param name="HeldUpBy">What kept it from receiving or applying, in words; null when nothing did.</param>
/// <param name="WatchedFrom">The host it was looked at from; null when its watcher does not say.</param>
public sealed record LagSample(Id<Replica> Replica, int Branch, Instant At, Instant ReceivedTo, Instant AppliedTo, long PendingBytes, long? ReceivedPosition, bool InStep, string? HeldUpBy = null, bool Unusable = false, Id<Host>? WatchedFrom = null);
