using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;

namespace Imbrek.Core.Timetable;

/// <summary>How much a run moves and how fast it can, by itself: the model that the prediction and the simulated world share.</summary>
public static class RunPace
{
    /// <summary>Seconds a run takes beside moving bytes: signing in, preparing, closing.</summary>
    public const double OverheadSeconds = 3.5;

    /// <summary>The fastest that a run's stored bytes can leave its host, bytes per second: the host's disks, the processor for compression, and reading all of it where changes are not tracked.</summary>
    /// <param name="host">The host.</param>
    /// <param name="engine">The engine family.</param>
    /// <param name="task">The task.</param>
    /// <param name="storedBytes">Bytes to store.</param>
    /// <param name="readBytes">Bytes of the database that must be read to find them, where all of it must be; 0 otherwise.</param>
    public static double Cap(Host host, EngineProfile engine, PlanTask task, double storedBytes, double readBytes) =>
        Cap(host, engine, task.Compression, task.Kind.Makes(), storedBytes, readBytes);

    /// <summary>The same, for a set of a kind.</summary>
    /// <param name="host">The host.</param>
    /// <param name="engine">The engine family.</param>
    /// <param name="compression">How hard it compresses.</param>
    /// <param name="kind">The kind of set; null for none.</param>
    /// <param name="storedBytes">Bytes to store.</param>
    /// <param name="readBytes">Bytes of the database that must be read to find them, where all of it must be; 0 otherwise.</param>
    public static double Cap(Host host, EngineProfile engine, Compression compression, Catalogue.SetKind? kind, double storedBytes, double readBytes)
    {
        var cap = host.WriteBytesPerSecond;
        var processor = compression.ProcessorSecondsPerByte();
        if (processor > 0)
        {
            cap = Math.Min(cap, compression.Ratio() / processor);
        }

        if (!engine.TracksChanges && kind is (Catalogue.SetKind.Differential or Catalogue.SetKind.Incremental) && readBytes > 0)
        {
            cap = Math.Min(cap, Math.Max(storedBytes, 1) / (readBytes / host.WriteBytesPerSecond));
        }

        return cap;
    }

    /// <summary>Seconds a backup takes when nothing else runs, its further copies included; infinite when it cannot get there.</summary>
    /// <param name="fleet">The fleet.</param>
    /// <param name="database">The database.</param>
    /// <param name="task">The task; it makes a set.</param>
    /// <param name="storedBytes">Bytes to store.</param>
    public static double Alone(FleetModel fleet, Database database, PlanTask task, double storedBytes)
    {
        var (host, store) = (fleet.Hosts[database.Host], task.Store!.Value);
        var rate = Math.Min(Cap(host, fleet.Engines[database.Engine], task, storedBytes, database.SizeBytes), Routes.Slowest(fleet, host.Id, store));
        var copies = 0.0;
        foreach (var to in task.CopyTo)
        {
            copies = Math.Max(copies, storedBytes / Routes.Slowest(fleet, store, to));
        }

        return OverheadSeconds + (storedBytes / rate) + copies;
    }
}
