using Imbrek.Core.Catalogue;
using Imbrek.Core.Planning;

namespace Imbrek.Core.Drivers;

/// <summary>A set to take.</summary>
/// <param name="Database">The database.</param>
/// <param name="Kind">The kind of set.</param>
/// <param name="Store">The store it goes to.</param>
/// <param name="Compression">How hard it is compressed.</param>
/// <param name="Key">The name of the key it is encrypted with; null when it is not.</param>
/// <param name="Naming">How it is named, see <see cref="PlanTask.Naming"/>.</param>
/// <param name="OutsideChain">Whether it stands aside: later differentials do not build on it.</param>
/// <param name="ReadBack">Whether it is read back once it is written.</param>
/// <param name="LockSeconds">For how long it is locked in a store that locks; null for not at all.</param>
public sealed record TakeSpec(
    string Database, SetKind Kind, string Store, Compression Compression, string? Key, string Naming, bool OutsideChain, bool ReadBack, double? LockSeconds)
{
    /// <summary>What a task takes of a database.</summary>
    public static TakeSpec Of(PlanTask task, Fleet.Id<Fleet.Database> database) => new(
        database.Value, task.Kind.Makes()!.Value, task.Store!.Value.Value, task.Compression, task.Key, task.Naming, task.OutsideChain, task.VerifyAfterWriting, task.Lock?.TotalSeconds);
}
