using Imbrek.Core.Drivers;

namespace Imbrek.StandIn.Engine;

/// <summary>The names of files and accounts that databases of the world hold.</summary>
internal static class NamesHeld
{
    /// <summary>Those of a database: as it got them when it was made of another, otherwise after itself and its service, which shares an account among its databases.</summary>
    public static IReadOnlyList<HeldName> By(SimulatedDatabase d) => d.Birth?.Names is { } names
        ? [.. names.Select(n => new HeldName(n.Kind, n.To))]
        :
        [
            new(NameKind.File, $"{d.Database.Id}.pages"),
            new(NameKind.File, $"{d.Database.Id}.log"),
            new(NameKind.Account, $"{d.Database.Service?.Value ?? d.Database.Id.Value}-clients"),
            new(NameKind.Account, $"{d.Database.Id}-nightly"),
        ];
}
