using NodaTime;

namespace Imbrek.PostgreSql.Log;

/// <summary>A commit, as the log tells of it.</summary>
/// <param name="Position">Where its record begins: a recovery that stops before this position does not have it.</param>
/// <param name="End">Where the next record begins.</param>
/// <param name="At">When it was made, by the source's clock, to the microsecond.</param>
/// <param name="Transaction">The number of its transaction, 32 bits.</param>
/// <param name="Name">What it was named by who made it; null when it was not. See <see cref="LogReader"/>.</param>
internal sealed record Commit(Lsn Position, Lsn End, Instant At, uint Transaction, string? Name);
