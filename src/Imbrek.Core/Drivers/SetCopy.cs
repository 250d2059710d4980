using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;

namespace Imbrek.Core.Drivers;

/// <summary>One copy of one set, to read from.</summary>
/// <param name="Set">The set.</param>
/// <param name="Store">The store its copy lies in.</param>
public sealed record SetCopy(Id<BackupSet> Set, Id<Store> Store);
