using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>What could be restored of one database, at one instant, under one loss.</summary>
/// <param name="Database">The database.</param>
/// <param name="At">The as-of instant A.</param>
/// <param name="Loss">The loss S, resolved to a thing.</param>
/// <param name="Recoverable">R(A, S): closed intervals, in order, apart.</param>
/// <param name="Window">Figures over a window ending at A; null when none was asked for.</param>
public sealed record Evaluation(
    Id<Database> Database,
    Instant At,
    Loss Loss,
    IReadOnlyList<ClosedInterval> Recoverable,
    WindowFigures? Window)
{
    /// <summary>max R(A, S); null when nothing can be restored.</summary>
    public Instant? Latest => Recoverable.Count == 0 ? null : Recoverable[^1].To;

    /// <summary>E(A, S) in seconds; null when nothing can be restored.</summary>
    public double? ExposureSeconds => Latest is { } latest ? (At - latest).TotalSeconds : null;
}
