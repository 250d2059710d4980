using NodaTime;

namespace Imbrek.Core.Drivers;

/// <summary>Where the application of log stops.</summary>
/// <param name="At">Everything committed up to this instant is in, and nothing committed later.</param>
/// <param name="Before">Named to stop at a position instead: nothing that begins there or behind is in.</param>
public readonly record struct LogStop(Instant At, long? Before = null);
