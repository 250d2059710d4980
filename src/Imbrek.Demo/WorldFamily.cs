using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Server.Features.Runs;
using Imbrek.StandIn;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.Demo;

/// <summary>The drivers of the simulated world, while this process runs it.</summary>
internal sealed class WorldFamily : IDriverFamily
{
    /// <summary>What runs call its drivers.</summary>
    public const string FamilyName = "world";

    private readonly DemoOptions options;
    private readonly Lazy<WorldScript> script = new(() => TarnholtFerries.Create(SystemClock.Instance.GetCurrentInstant()));
    private readonly Lazy<HashSet<Id<Database>>> inWorld;
    private volatile World? world;

    public WorldFamily(DemoOptions options)
    {
        this.options = options;
        inWorld = new(() => [.. script.Value.Databases.Select(d => d.Id)]);
    }

    /// <summary>The world, while this process runs it.</summary>
    public World? World
    {
        get => world;
        set => world = value;
    }

    /// <inheritdoc/>
    public string Name => FamilyName;

    /// <inheritdoc/>
    public bool Here => world is not null;

    /// <inheritdoc/>
    public bool StopsAtPositions => false;

    /// <inheritdoc/>
    public string? WhyNotInPlace(Database database, RestorePath? path) => null;

    /// <inheritdoc/>
    public string? WhyNoMove => null;

    /// <inheritdoc/>
    public bool ChangesLogMode => true;

    /// <inheritdoc/>
    public bool RestoresInstances => false;

    /// <inheritdoc/>
    public string QueryHelp => WorldQuery.Help;

    /// <inheritdoc/>
    public string MaskHelp => WorldQuery.Changes;

    /// <inheritdoc/>
    public string? WhyNoCopy(CopyUse use, bool forHosts) => null;

    /// <inheritdoc/>
    public IRestoreDriver Restore => new StandInDriver(Led());

    /// <inheritdoc/>
    public IBackupDriver Backup => new StandInBackupDriver(Led());

    /// <inheritdoc/>
    public IReplicateDriver Replicate => new StandInReplicateDriver(Led());

    public IDrillDriver Drill => new StandInDrillDriver(Led());

    /// <inheritdoc/>
    public IChangeDriver Change => new StandInChangeDriver(Led());

    /// <inheritdoc/>
    public string ChangeHelp => StandInChangeDriver.Help;

    /// <inheritdoc/>
    public string? WhyNoChange(Core.Changes.Change change) => null;

    /// <inheritdoc/>
    public ICreateDriver Create => new StandInCreateDriver(Led());

    /// <inheritdoc/>
    public IInventoryDriver Inventory => new StandInInventoryDriver(Led());

    /// <inheritdoc/>
    public bool Makes(EngineProfile engine) => options.Folder is not null && script.Value.Fleet.Engines.ContainsKey(engine.Id);

    /// <inheritdoc/>
    /// <remarks>What was made in it only who runs it knows at once; another process looks at what the world last kept.</remarks>
    public bool Knows(Database database) => options.Folder is not null
        && (inWorld.Value.Contains(database.Id) || (World is { } w ? w.Fleet.DatabaseById.ContainsKey(database.Id) : World.Made(options.Folder).Contains(database.Id.Value)));

    /// <inheritdoc/>
    public IDisposable Engage(string who) => Led().Engage(who);

    private World Led() => world ?? throw new DriverGoneException("the world is run by another process");
}
