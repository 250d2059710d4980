using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>What is looked at before a restore: room, family and version, openness, key, chain, copies, reach.</summary>
public static class Prechecks
{
    /// <summary>The name of the check of room.</summary>
    public const string Room = "room";

    /// <summary>Looks at a host and a path.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="host">Where it is to be restored.</param>
    /// <param name="path">The path; null when there is none.</param>
    /// <param name="loss">The loss supposed, resolved.</param>
    /// <param name="at">As of when.</param>
    public static IReadOnlyList<Precheck> Of(RecoverySubject subject, Host host, RestorePath? path, Loss loss, Instant at)
    {
        var database = subject.Database;
        var checks = new List<Precheck>
        {
            loss.Spares(host)
                ? new("host reachable", PrecheckOutcome.Passed, $"{host.Id} in {host.Site} is still there {loss.Clause}")
                : new("host reachable", PrecheckOutcome.Failed, $"{host.Id} is lost with {loss}"),
            host.FreeBytes is not { } free ? new(Room, PrecheckOutcome.Warned, $"how much room {host.Id} has is not known")
                : free < database.SizeBytes ? new(Room, PrecheckOutcome.Failed, $"{Gigabytes(free)} free, {Gigabytes(database.SizeBytes)} needed")
                : new(Room, PrecheckOutcome.Passed, $"{Gigabytes(free)} free, {Gigabytes(database.SizeBytes)} needed"),
            host.Engines.Count == 0 || host.Engines.Contains(database.Engine)
                ? new("engine family", PrecheckOutcome.Passed, subject.Fleet.Engines[database.Engine].Name)
                : new("engine family", PrecheckOutcome.Failed, $"{host.Id} cannot run {subject.Fleet.Engines[database.Engine].Name}"),
            database.Version is not { } version || host.Versions.Count == 0 ? new("major version", PrecheckOutcome.Warned, "not known on both sides")
                : host.Versions.Contains(version) ? new("major version", PrecheckOutcome.Passed, $"version {version} is installed")
                : new("major version", PrecheckOutcome.Failed, $"version {version} is needed, {host.Id} has {string.Join(", ", host.Versions)}"),
        };
        if (Openness.Of(subject.Fleet.Hosts[database.Host], host) is { Count: > 0 } open)
        {
            checks.Add(new("as closed as its source", PrecheckOutcome.Warned, string.Join("; ", open)));
        }

        if (path is null)
        {
            checks.Add(new("chain", PrecheckOutcome.Failed, "no chain of sets leads to this instant"));
            return checks;
        }

        if (path.Needs.Count > 0)
        {
            checks.Add(new("settings", PrecheckOutcome.Warned, $"{string.Join("; ", path.Needs.Select(n => n.Said))}: changed for this, and set back afterwards"));
        }

        var sets = SetsOf(subject.Catalogue, path);
        checks.Add(KeyCheck(host, path.Steps.Select(s => sets[s.Set].Key).OfType<string>().Distinct().ToArray()));
        checks.Add(new("chain", PrecheckOutcome.Passed, $"{path.Steps.Count} sets follow one another from {path.Base.Set} to the instant"));
        var unread = path.Steps.Count(s => sets[s.Set].Copies.First(c => c.Store == s.Store).State == CopyState.Unverified);
        checks.Add(unread == 0
            ? new("copies", PrecheckOutcome.Passed, "every copy was read back and found whole")
            : new("copies", PrecheckOutcome.Warned, $"{unread} of {path.Steps.Count} copies were never read back since they were written"));
        return checks;
    }

    /// <summary>What a restored database does not bring along, to be done afterwards: computed from the instance data of its host, where the fleet names it (ways, section 9).</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="host">Where it is restored.</param>
    /// <param name="whole">Whether it is a whole instance, with its accounts, settings and jobs.</param>
    /// <param name="planned">Whether a plan takes it from the beginning.</param>
    public static IReadOnlyList<string> DoesNotComeAlong(FleetModel fleet, Database database, Host host, bool whole = false, bool planned = false)
    {
        string[] rest = [.. host.Id == database.Host ? Array.Empty<string>() : [NetworkRules(database, host)], .. planned ? Array.Empty<string>() : [Unprotected]];
        if (whole || host.Id == database.Host)
        {
            // On its own host its instance is there, and so are its clients.
            return rest;
        }

        var data = fleet.Before(database);
        var there = fleet.Databases.Where(d => d.IsInstanceData && d.Host == host.Id && d.Engine == database.Engine).ToArray();
        var list = new List<string>();
        foreach (var (part, what) in Parts)
        {
            var holders = data.Where(d => d.Holds.Contains(part)).ToArray();
            var own = there.FirstOrDefault(d => d.Holds.Contains(part));
            if (holders.FirstOrDefault(d => fleet.BackupPlansOf(d).Count > 0) is { } kept)
            {
                list.Add($"{what}: they are in {kept.Name}, which is restored first{(own is null ? "" : $"; {host.Id} has its own, in {own.Name}")}");
            }
            else if (holders.FirstOrDefault() is { } bare)
            {
                list.Add($"{what}: they are in {bare.Name}, which no plan backs up");
            }
            else if (part is InstancePart.Accounts or InstancePart.Jobs or InstancePart.Settings)
            {
                list.Add(what);
            }
        }

        return [.. list, .. rest];
    }

    private static readonly (InstancePart Part, string What)[] Parts =
    [
        (InstancePart.Accounts, "Accounts and their rights that live in the instance, not in the database"),
        (InstancePart.Keys, "Keys of the instance"),
        (InstancePart.Certificates, "Certificates of the instance"),
        (InstancePart.Settings, "Engine settings of the instance (memory, log, parallelism)"),
        (InstancePart.Jobs, "Scheduled jobs of the instance"),
    ];

    private const string Unprotected = "Its protection: the restored database has no plan and no backup of its own until it is given one";

    private static string NetworkRules(Database database, Host host) => $"Network rules: {host.Id} must let in the clients of {database.Host}";

    private static Precheck KeyCheck(Host host, string[] keys)
    {
        var missing = keys.Where(k => host.HasKey(k) != true).ToArray();
        return keys.Length == 0 ? new("key", PrecheckOutcome.Passed, "its copies are not encrypted")
            : missing.Length == 0 ? new("key", PrecheckOutcome.Passed, $"key {string.Join(", ", keys)} is present")
            : host.HasKey(missing[0]) is null ? new("key", PrecheckOutcome.Warned, $"key {string.Join(", ", missing)} is needed; which keys {host.Id} has is not known")
            : new("key", PrecheckOutcome.Failed, $"key {string.Join(", ", missing)} is not on {host.Id}: the copies could not be read there");
    }

    /// <summary>The sets of a path, found in one walk over the catalogue, however many there are.</summary>
    private static Dictionary<Id<BackupSet>, BackupSet> SetsOf(DatabaseCatalogue catalogue, RestorePath path)
    {
        var wanted = path.Steps.Select(s => s.Set).ToHashSet();
        return Enumerable.Range(0, catalogue.Count).Where(i => wanted.Contains(catalogue.IdOf(i))).ToDictionary(catalogue.IdOf, i => catalogue[i]);
    }

    private static string Gigabytes(long bytes) => $"{bytes / 1e9:#,0} GB";
}
