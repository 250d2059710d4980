using Imbrek.Core.Drivers;

namespace Imbrek.Server.Features.Runs;

/// <summary>What the product does by itself, on what it keeps: it acts on no database.</summary>
internal sealed class ProductFamily : IDriverFamily
{
    /// <summary>What runs call it.</summary>
    public const string FamilyName = "product";

    public string Name => FamilyName;

    public bool Here => true;

    public bool StopsAtPositions => false;

    public bool RestoresInstances => false;

    public string QueryHelp => "";

    public IRestoreDriver Restore => throw Nothing();

    public IBackupDriver Backup => throw Nothing();

    public bool Knows(Core.Fleet.Database database) => false;

    public bool StartsOn(Core.Fleet.Id<Core.Fleet.Host> host) => false;

    public IDisposable Engage(string who) => new Engaged();

    private static DriverException Nothing() => new(DriverProblem.Refused, "the product itself acts on no database");

    private sealed class Engaged : IDisposable
    {
        public void Dispose()
        {
        }
    }
}
