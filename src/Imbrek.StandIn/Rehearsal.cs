using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
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
            if (RestoreTest.Next(subject, d.Proofs, started) is not { Path: { } path } test)
            {
                return "there is nothing to restore from";
            }

            var driver = new StandInDriver(world);
            var run = Guid.NewGuid();
            var instance = new InstanceSpec($"rehearsal-{d.Database.Id}", d.Database.Id, path.Host, run);
            var (actual, reached) = (0.0, path.Reaches);
            IReadOnlyList<CheckResult> checks = [];
            foreach (var step in RestoreAside.Steps(d.Database, path, instance.Name, held: false))
            {
                var measured = await RestoreAside.DoAsync(step, driver, new RunCall(run, 1), instance, path.Reaches, null, _ => { }, default);
                checks = measured.Checks ?? checks;
                if (step.Kind == "open")
                {
                    (actual, reached) = ((world.Now - started).TotalSeconds, Core.Formats.Instants.Parse(measured.Reached!));
                }
            }

            var measure = new RehearsalMeasure(started, started, reached, test.Loss, path.Host, path.Seconds, actual, checks);
            d.Proofs = d.Proofs.With(measure.ProofOf(d.Database, world.Fleet, world.Now));
            world.Changed(new WorldChange.Rehearsed(world.Now, d.Database.Id, measure));
            return checks.All(c => c.Passed) ? null : "a check did not pass";
        }
        catch (DriverException e)
        {
            return e.Message;
        }
    }
}
