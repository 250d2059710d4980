using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Server.Features.Runs;
using Imbrek.StandIn;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.Demo;

/// <summary>The drivers of the simulated world, while this process runs it.</summary>
internal sealed class WorldFamily(DemoOptions options) : IDriverFamily
{
    private readonly Lazy<HashSet<Id<Database>>> inWorld = new(() => [.. TarnholtFerries.Create(SystemClock.Instance.GetCurrentInstant()).Databases.Select(d => d.Id)]);
    private volatile World? world;

    /// <summary>The world, while this process runs it.</summary>
    public World? World
    {
        get => world;
        set => world = value;
    }

    /// <inheritdoc/>
    public string Name => "world";

    /// <inheritdoc/>
    public bool Here => world is not null;

    /// <inheritdoc/>
    public bool StopsAtPositions => false;

    /// <inheritdoc/>
    public bool RestoresInstances => false;

    /// <inheritdoc/>
    public string QueryHelp => "count rows, count written, count cancelled, sum values";

    /// <inheritdoc/>
    public IRestoreDriver Restore => new StandInDriver(Led());

    /// <inheritdoc/>
    public IBackupDriver Backup => new StandInBackupDriver(Led());

    /// <inheritdoc/>
    public IReplicateDriver Replicate => new StandInReplicateDriver(Led());

    /// <inheritdoc/>
    public bool Knows(Database database) => options.Folder is not null && inWorld.Value.Contains(database.Id);

    /// <inheritdoc/>
    public IDisposable Engage() => Led().Engage();

    private World Led() => world ?? throw new DriverGoneException("the world is run by another process");
}
