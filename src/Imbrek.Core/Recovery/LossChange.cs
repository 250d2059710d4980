using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>What a loss costs as things are, and what it would cost if they were otherwise.</summary>
/// <param name="Kind">The kind of loss.</param>
/// <param name="Loss">The loss, resolved.</param>
/// <param name="Now">The best way as things are; null when nothing leads back.</param>
/// <param name="Then">The best way otherwise; null when nothing leads back.</param>
/// <param name="Agreed">Whether the objective is agreed against it.</param>
public sealed record LossChange(LossKind Kind, Loss Loss, WayBack? Now, WayBack? Then, bool Agreed)
{
    /// <summary>Each loss that can befall a database.</summary>
    /// <param name="now">The database as it is.</param>
    /// <param name="then">The database as it would be.</param>
    /// <param name="at">The instant that is both lost and wanted back.</param>
    public static IReadOnlyList<LossChange> Each(RecoverySubject now, RecoverySubject then, Instant at) =>
    [
        .. from kind in Enum.GetValues<LossKind>()
           let loss = Loss.OfKind(kind).For(now.Database, now.Fleet)

           // It may lie on no array.
           where kind == LossKind.None || loss.Kind != LossKind.None
           let question = new PathQuestion { Target = at, At = at, Loss = loss }
           select new LossChange(kind, loss, WayFinder.Find(now, question).Best, WayFinder.Find(then, question).Best, now.Objective?.Against.Contains(kind) == true),
    ];
}
