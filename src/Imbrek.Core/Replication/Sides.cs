using Imbrek.Core.Fleet;

namespace Imbrek.Core.Replication;

/// <summary>What must be the same where a database lives and where a replica of it is to take over, as far as both state it.</summary>
public static class Sides
{
    /// <summary>In what a host differs from the one a database lives on, in words; empty when in nothing that is stated.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="there">The other host.</param>
    public static IReadOnlyList<string> Differ(FleetModel fleet, Database database, Host there)
    {
        var here = fleet.Hosts[database.Host];
        var differ = new List<string>();
        if (there.Engines.Count > 0 && !there.Engines.Contains(database.Engine))
        {
            differ.Add($"{there.Id} cannot run {fleet.Engines[database.Engine].Name}");
        }

        if (database.Version is { } version && there.Versions.Count > 0 && !there.Versions.Contains(version))
        {
            differ.Add($"it runs version {version}, {there.Id} has {string.Join(", ", there.Versions)}");
        }

        differ.AddRange(here.Keys.Where(k => there.HasKey(k) == false).Select(k => $"key {k} is not on {there.Id}"));
        foreach (var (what, a, b) in new[] { ("collation", here.Collation, there.Collation), ("character set", here.CharacterSet, there.CharacterSet), ("time zone", here.TimeZone, there.TimeZone) })
        {
            if (a is not null && b is not null && a != b)
            {
                differ.Add($"{what} {a} on {here.Id}, {b} on {there.Id}");
            }
        }

        return differ;
    }
}
