namespace Imbrek.Core.Fleet;

/// <summary>Shared storage inside a site; everything on it can be lost together.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Site">The site it stands in.</param>
public sealed record StorageArray(Id<StorageArray> Id, Id<Site> Site);
