using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;

namespace Imbrek.Core.Recovery;

/// <summary>Whether a host can take a restored database (section 4).</summary>
public static class HostQualification
{
    /// <summary>Null when the host qualifies; otherwise why not, for people.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="host">The host.</param>
    /// <param name="loss">The loss supposed.</param>
    /// <param name="mounted">Whether its sets stay where they lie, so that it needs no room.</param>
    public static string? WhyNot(FleetModel fleet, Database database, Host host, Loss loss, bool mounted = false)
    {
        if (!loss.Spares(host))
        {
            return $"host {host.Id} is lost with {loss}";
        }

        if (host.Engines.Count > 0 && !host.Engines.Contains(database.Engine))
        {
            return $"host {host.Id} cannot run {fleet.Engines[database.Engine].Name}";
        }

        return !mounted && host.FreeBytes is { } free && free < database.SizeBytes
            ? $"host {host.Id} has {free} bytes free, {database.SizeBytes} are needed"
            : null;
    }

    /// <summary>The first recovery host that qualifies; null when none does.</summary>
    public static Host? Default(FleetModel fleet, Database database, Loss loss, bool mounted = false) =>
        database.RecoveryHosts.Select(id => fleet.Hosts[id]).FirstOrDefault(h => WhyNot(fleet, database, h, loss, mounted) is null);

    /// <summary>The first recovery host that qualifies and lacks no key a set of the database is encrypted with; null when none does.</summary>
    public static Id<Host>? FirstWithKeys(RecoverySubject subject, Loss loss)
    {
        var keys = subject.Catalogue.Sets.Select(s => s.Key).OfType<string>().ToHashSet();
        return subject.Database.RecoveryHosts
            .Where(h => WhyNot(subject.Fleet, subject.Database, subject.Fleet.Hosts[h], loss) is null && keys.All(k => subject.Fleet.Hosts[h].HasKey(k) != false))
            .Select(h => (Id<Host>?)h).FirstOrDefault();
    }
}
