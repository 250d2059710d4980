using System.CommandLine;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Cli;

/// <summary>The options that the commands share, and how their values are read.</summary>
internal static class Inputs
{
    public static Option<string> Fleet() => new("--fleet") { Description = "The fleet file.", Required = true };

    public static Option<string> Catalog() => new("--catalog") { Description = "The catalogue file.", Required = true };

    public static Option<string> Loss() => new("--loss") { Description = "none, hostile, host[:ID], array[:ID] or site[:ID].", DefaultValueFactory = _ => "none" };

    public static Option<bool> Json() => new("--json") { Description = "Print JSON instead of a table." };

    public static Option<bool> AllFaults() => new("--all-faults") { Description = "List every fault and warning of a file, not only the first." };

    public static FleetModel ReadFleet(string path, bool all) => Take(FleetFile.Read(Bytes(path), path), all);

    public static VersionCalendar ReadVersions(string path, FleetModel fleet, bool all) => Take(VersionFile.Read(Bytes(path), path, fleet), all);

    public static BackupCatalogue ReadCatalogue(string path, FleetModel fleet, bool all) =>
        Take(path.EndsWith(".csv", StringComparison.OrdinalIgnoreCase) ? CatalogueCsv.Read(Bytes(path), path, fleet) : CatalogueFile.Read(Bytes(path), path, fleet), all);

    public static Instant Time(string option, string text) =>
        Instants.TryParse(text, out var t) ? t : throw new InputException($"{option}: '{text}' is not an instant in UTC, such as 2026-03-01T02:41:00Z");

    public static Loss ReadLoss(string text, FleetModel fleet) =>
        Core.Objectives.Loss.TryParse(text, fleet, out var loss, out var error) ? loss : throw new InputException($"--loss: {error}");

    public static Database ReadDatabase(string id, FleetModel fleet, string option = "--database") =>
        fleet.DatabaseById.TryGetValue(new(id), out var d) ? d : throw new InputException($"{option}: the fleet has no database '{id}'");

    public static Replica ReadReplica(string id, FleetModel fleet, string option = "--replica") =>
        fleet.Replicas.TryGetValue(new(id), out var r) ? r : throw new InputException($"{option}: the fleet has no replica '{id}'");

    private static byte[] Bytes(string path)
    {
        try
        {
            return File.ReadAllBytes(path);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new InputException($"cannot read {path}: {e.Message}");
        }
    }

    private static T Take<T>(ReadResult<T> result, bool all)
        where T : class
    {
        if (result.Value is { } value)
        {
            foreach (var warning in Listed(result.Warnings, all))
            {
                Console.Error.WriteLine($"imbrek: warning: {warning}");
            }

            return value;
        }

        throw new InputException(string.Join(Environment.NewLine, Listed(result.Faults, all)));
    }

    /// <summary>All of them, or the first and how many more there are.</summary>
    private static IEnumerable<string> Listed(IReadOnlyList<Fault> faults, bool all) =>
        all || faults.Count < 2 ? faults.Select(f => f.ToString()) : [$"{faults[0]} (and {faults.Count - 1} more; --all-faults lists them)"];
}
