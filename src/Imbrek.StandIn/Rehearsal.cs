using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.StandIn.Engine;

namespace Imbrek.StandIn;

/// <summary>A restore of a database aside, to the newest instant that can be reached: carried out, checked, measured, thrown away.</summary>
internal static class Rehearsal
{
    /// <summary>Rehearses, and tells the world's listeners what was measured.</summary>
    /// <returns>What went wrong; null when nothing did.</returns>
    public static async Task<string?> RunAsync(World world, SimulatedDatabase d)
    {
        try
        {
            var subject = RecoverySubject.Of(world.Fleet, d.Database, new DatabaseCatalogue(d.Database.Id, d.Sets.Values));
            var started = world.Now;
            if (PathFinder.Find(subject, new PathQuestion { Target = started, At = started, Choice = new(HostWithKeys(world.Fleet, d)) }).Best is not { } path)
            {
                return "there is nothing to restore from";
            }

            var driver = new StandInDriver(world);
            var instance = new InstanceSpec($"rehearsal-{d.Database.Id}", d.Database.Id, path.Host, "rehearsal");
            await driver.ProvisionAsync(instance, default);
            foreach (var step in path.Steps.Where(s => s.Kind != SetKind.Log))
            {
                await driver.RestoreSetAsync(instance, new SetCopy(step.Set, step.Store), default);
            }

            var logs = path.Steps.Where(s => s.Kind == SetKind.Log).Select(s => new SetCopy(s.Set, s.Store)).ToArray();
            await driver.ApplyLogsAsync(instance, logs, path.Reaches, _ => { }, default);
            await driver.OpenAsync(instance, default);
            var actual = (world.Now - started).TotalSeconds;
            var checks = await driver.CheckAsync(instance, path.Reaches, null, default);
            await driver.DiscardAsync(instance, default);
            world.Changed(new WorldChange.Rehearsed(
                world.Now, d.Database.Id, new RehearsalMeasure(started, started, path.Reaches, path.Host, path.Seconds, actual, checks)));
            return checks.All(c => c.Passed) ? null : "a check did not pass";
        }
        catch (DriverException e)
        {
            return e.Message;
        }
    }

    /// <summary>The first recovery host that qualifies and lacks no key the database's sets are encrypted with; null when none does.</summary>
    private static Id<Host>? HostWithKeys(FleetModel fleet, SimulatedDatabase d)
    {
        var keys = d.Sets.Values.Select(s => s.Key).OfType<string>().ToHashSet();
        return d.Database.RecoveryHosts
            .Where(h => HostQualification.WhyNot(fleet, d.Database, fleet.Hosts[h], Loss.None) is null && keys.All(k => fleet.Hosts[h].HasKey(k) != false))
            .Select(h => (Id<Host>?)h).FirstOrDefault();
    }
}
