using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Evidence;

/// <summary>What a restore or a drill measured.</summary>
/// <param name="At">When.</param>
/// <param name="LostSeconds">Data lost, seconds: what was wanted minus what was reached.</param>
/// <param name="ServiceSeconds">Measured time to service without the hold, seconds.</param>
/// <param name="Passed">Whether every check passed.</param>
/// <param name="SizeBytes">How large the database was.</param>
/// <param name="Version">The engine's major version then.</param>
/// <param name="Loss">The kind of loss that was supposed, as it hit the database.</param>
/// <param name="TookOver">Whether a replica took over; otherwise sets were restored.</param>
public sealed record Proof(Instant At, double LostSeconds, double ServiceSeconds, bool Passed, long SizeBytes, string? Version, LossKind Loss = LossKind.None, bool TookOver = false);
