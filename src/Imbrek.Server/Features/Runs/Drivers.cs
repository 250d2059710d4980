using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Server.State;

namespace Imbrek.Server.Features.Runs;

/// <summary>What an installation can act on through one family of drivers.</summary>
internal interface IDriverFamily
{
    /// <summary>Its name, as runs keep it.</summary>
    string Name { get; }

    /// <summary>Whether its drivers can be called from this process now; another process may be able to.</summary>
    bool Here { get; }

    /// <summary>Whether it can stop a restore before a log position, exactly.</summary>
    bool StopsAtPositions { get; }

    /// <summary>Whether what it calls a database is a whole instance, with its accounts, settings and jobs.</summary>
    bool RestoresInstances { get; }

    /// <summary>Why it has nothing that was restored take the place of a database; null when it does.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">What would be restored; null while that is not known.</param>
    string? WhyNotInPlace(Core.Fleet.Database database, RestorePath? path) => $"the drivers of {database.Name} put nothing in place";

    /// <summary>Why it moves no database to another host by its sets; null when it does.</summary>
    string? WhyNoMove => "its drivers move nothing by sets: set up a replica there, and switch over to it";

    /// <summary>What a query of an administrator's own may be, in words, for whoever writes one.</summary>
    string QueryHelp { get; }

    /// <summary>What statements that mask a clone may be, in words; null where none are carried out.</summary>
    string? MaskHelp => null;

    /// <summary>Why it makes no copy that ends; null when it does.</summary>
    /// <param name="use">What it is to be.</param>
    /// <param name="forHosts">Whether named hosts are to get in.</param>
    string? WhyNoCopy(CopyUse use, bool forHosts) => "its drivers make no copies that end";

    /// <summary>Why it cannot let a host into a copy; null when it can.</summary>
    string? WhyNotLetIn(Core.Fleet.Host host) => null;

    /// <summary>Why statements that mask a clone are carried out nowhere; null when they are, or when that is known only once they are tried.</summary>
    string? WhyNoMask(IReadOnlyList<string> statements) => null;

    /// <summary>What statements of a change may be, in words; null where none are carried out.</summary>
    string? ChangeHelp => null;

    /// <summary>Why it carries a change out neither on a copy nor on a database itself; null when it does.</summary>
    string? WhyNoChange(Core.Changes.Change change) => "its drivers carry out no changes";

    /// <summary>Whether it acts on a database.</summary>
    bool Knows(Core.Fleet.Database database);

    /// <summary>Whether it can start engines on a host: one of its own, or one it reaches.</summary>
    bool StartsOn(Id<Core.Fleet.Host> host) => true;

    /// <summary>Why nothing can be started on a host; null when it can.</summary>
    string? WhyNotOn(Id<Core.Fleet.Host> host) => StartsOn(host) ? null : $"this server cannot start an engine on {host}: it knows no folder for one there";

    /// <summary>Restores; only while <see cref="Here"/>.</summary>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    IRestoreDriver Restore { get; }

    /// <summary>Takes, copies, reads back and removes backups; only while <see cref="Here"/>.</summary>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    IBackupDriver Backup { get; }

    /// <summary>Seeds, mends and promotes replicas; only while <see cref="Here"/>. Null when the family cannot.</summary>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    IReplicateDriver? Replicate => null;

    /// <summary>Keeps everybody out of a database, and lets them in again; only while <see cref="Here"/>.</summary>
    /// <exception cref="DriverException">The family keeps nobody out.</exception>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    IReplicateDriver Fences => Replicate ?? throw new DriverException(DriverProblem.Refused, $"the drivers named {Name} keep nobody out");

    /// <summary>Stops writes, sends clients over and looks on; only while <see cref="Here"/>. Null when the family cannot.</summary>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    IDrillDriver? Drill => null;

    /// <summary>Carries changes out, where <see cref="WhyNoChange"/> says nothing; only while <see cref="Here"/>. Null when the family cannot.</summary>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    IChangeDriver? Change => null;

    /// <summary>Makes databases; only while <see cref="Here"/>, and where it <see cref="Makes"/> any. Null when the family cannot.</summary>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    ICreateDriver? Create => null;

    /// <summary>Makes databases; only while <see cref="Here"/>.</summary>
    /// <exception cref="DriverException">The family makes none.</exception>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    ICreateDriver Maker => Create ?? throw new DriverException(DriverProblem.Refused, $"the drivers named {Name} make no databases");

    /// <summary>Asks hosts for their databases; only while <see cref="Here"/>. Null when the family cannot.</summary>
    /// <exception cref="DriverGoneException">It cannot be called from this process any more.</exception>
    IInventoryDriver? Inventory => null;

    /// <summary>Whether it makes databases on an engine.</summary>
    bool Makes(EngineProfile engine) => false;

    /// <summary>Whether a database that discards its log can be made to keep it for a while.</summary>
    bool ChangesLogMode => false;

    /// <summary>Says that somebody acts, until what is returned is disposed of: a simulated world stands still while they think.</summary>
    /// <param name="who">Who it is, for those who wait for them.</param>
    IDisposable Engage(string who);
}

/// <summary>The drivers of this installation.</summary>
internal sealed class Drivers(IEnumerable<IDriverFamily> families)
{
    private readonly IDriverFamily[] families = [.. families];

    /// <summary>The names of those that can be called from this process now.</summary>
    public string[] Here => [.. families.Where(f => f.Here).Select(f => f.Name)];

    /// <summary>The drivers for a database.</summary>
    /// <exception cref="BadInputException">There are none: nothing is accepted that nobody can carry out.</exception>
    public IDriverFamily For(Core.Fleet.Database database) => TryFor(database) ?? throw new BadInputException(
        "database", $"{WhyNone(database)} ({database.Engine}): it can be planned for and computed, but not acted on", 409, "no-driver");

    /// <summary>The drivers for a database; null when there are none.</summary>
    public IDriverFamily? TryFor(Core.Fleet.Database database) => families.FirstOrDefault(f => f.Knows(database));

    /// <summary>All families that ask hosts for their databases; null where one of them can be called from another process alone.</summary>
    public IReadOnlyList<IDriverFamily>? ThatAsk() => families.All(f => f.Here) ? [.. families.Where(f => f.Inventory is not null)] : null;

    /// <summary>The drivers that make databases on an engine; null when there are none.</summary>
    public IDriverFamily? ThatMake(EngineProfile engine) => families.FirstOrDefault(f => f.Makes(engine));

    /// <summary>That nobody acts on a database, for people.</summary>
    public static string WhyNone(Core.Fleet.Database d) => $"this installation has no driver for {d.Name}";

    /// <summary>Why no second database is made of one; null when one can be.</summary>
    public string? WhyNoSecond(FleetModel fleet, Core.Fleet.Database d) => TryFor(d) is not { } family ? WhyNone(d)
        : d.IsInstanceData ? "what an instance holds beside its databases belongs to its host"
        : family.Makes(fleet.Engines[d.Engine]) ? null
        : "its drivers make no database of what was restored: restore it aside";

    /// <summary>The drivers of a name.</summary>
    /// <exception cref="DriverGoneException">This process has none of that name.</exception>
    public IDriverFamily Named(string name) => families.FirstOrDefault(f => f.Name == name) ?? throw new DriverGoneException($"this process has no drivers named {name}");
}
