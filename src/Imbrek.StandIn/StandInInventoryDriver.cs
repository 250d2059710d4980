using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Inventory;

namespace Imbrek.StandIn;

/// <summary>Asks hosts of the simulated world for their databases.</summary>
/// <param name="world">The world.</param>
public sealed class StandInInventoryDriver(World world) : IInventoryDriver
{
    /// <inheritdoc/>
    /// <remarks>At once, also while the world's time stands still.</remarks>
    public Task<HostAnswer> AskAsync(Id<Host> host, CancellationToken cancel)
    {
        lock (world.Gate)
        {
            if (world.Faults.IsDown(host))
            {
                throw new DriverException(DriverProblem.Unreachable, $"host {host} does not answer");
            }

            var there = world.Fleet.Databases.Where(d => d.Host == host).ToArray();
            var refused = there.Where(d => world.Faults.IsRefused(d.Id)).ToArray();
            var neighbours = world.Neighbours.Where(n => n.Host == host).ToArray();
            return Task.FromResult(new HostAnswer(
                [
                    .. there.Except(refused).Select(d => new SeenDatabase(d.Name, d.Id, null, d.Engine, d.Version, (long)(d.SizeBytes * world.GrownBy(d.Id)), d.LogMode)),
                    .. neighbours.Where(n => n.MayBeSeen).Select(n => new SeenDatabase(n.Name, null, null, n.Engine, n.Version, n.SizeBytes, LogMode.Kept)),
                ],
                [
                    .. refused.Select(d => $"{d.Name}: the sign-in that asks has expired"),
                    .. neighbours.Where(n => !n.MayBeSeen).CountBy(n => n.Engine).Select(c => $"the account sees that {world.Fleet.Engines[c.Key].Name} has {c.Value} more, and may not see what: grant it to read the list of databases"),
                ]));
        }
    }
}
