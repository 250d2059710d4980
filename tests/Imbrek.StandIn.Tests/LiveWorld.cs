using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.StandIn.Tests;

/// <summary>A world of one database that others act in, and that can be opened again.</summary>
public abstract class LiveWorld : IDisposable
{
    protected static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 14, 0);
    protected static readonly Id<Database> Customs = new("cargo-customs");
    protected static readonly Id<Site> Quay = new("quayside"), Hill = new("hillhouse");
    protected static readonly Replica One = new() { Id = new("r"), Database = Customs, Place = new ReplicaPlace.OnHost(new("hill-h1")), Mode = ReplicaMode.Async, PromoteSeconds = 30, KeepLogSeconds = 86_400 };
    private readonly string folder = Directory.CreateTempSubdirectory("imbrek-replicate").FullName;
    private readonly List<World> open = [];
    private readonly List<string> left = [];
    private WorldScript script = null!;

    public void Dispose()
    {
        GC.SuppressFinalize(this);
        open.ForEach(w => w.Dispose());
        left.Append(folder).ToList().ForEach(f => Directory.Delete(f, recursive: true));
    }

    protected World Live(params Replica[] replicas) => LiveWith(Customs, planned: false, replicas);

    /// <summary>A world of another database, with its plans where it is to have them.</summary>
    protected World LiveWith(Id<Database> database, bool planned, params Replica[] replicas)
    {
        var whole = TarnholtFerries.Create(Now);
        script = whole with
        {
            Fleet = whole.Fleet.With(replicas: replicas, groups: []).WithPlans(planned ? whole.Fleet.Plans : []),
            Databases = [.. whole.Databases.Where(d => d.Id == database).Select(d => d with { RehearsedDaysAgo = [], TransactionsPerMinute = 20 })],
            Troubles = [],
            Incidents = [],
            Begins = Now - Duration.FromHours(2),
        };
        using (var history = new World(folder, script))
        {
            history.Advance(Now);
            history.KeepForOthers(1);
        }

        return Again();
    }

    /// <summary>The world as it would be found if its process died now.</summary>
    protected World AsIfKilled()
    {
        var there = $"{folder}-killed-{open.Count}";
        foreach (var file in Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories))
        {
            var to = Path.Combine(there, Path.GetRelativePath(folder, file));
            Directory.CreateDirectory(Path.GetDirectoryName(to)!);
            try
            {
                using var from = new FileStream(file, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
                using var copy = File.Create(to);
                from.CopyTo(copy);
            }
            catch (Exception e) when (e is FileNotFoundException or DirectoryNotFoundException)
            {
                // A driver that is clearing away has just removed it: killed now, it would be gone.
            }
        }

        left.Add(there);
        var world = World.Open(there, _ => script);
        open.Add(world);
        return world;
    }

    protected World Again()
    {
        open.ForEach(w => w.Dispose());
        open.Clear();
        open.Add(World.Open(folder, _ => script));
        return open[0];
    }

    protected static async Task<T> AnsweredAsync<T>(World world, Task<T> call)
    {
        // Time stands still while the driver is at its own work.
        using var engaged = world.Engage("a test");
        for (var i = 0; i < 20_000 && !call.IsCompleted; i++)
        {
            world.Advance(Instant.Min(world.NextEvent ?? world.Now, world.Now + Duration.FromSeconds(5)));
            world.KeepAndAnswer();
            await Task.WhenAny(call, world.WhenNobodyThinksAsync(TimeSpan.FromSeconds(5)));
        }

        return await call.WaitAsync(TimeSpan.FromSeconds(5));
    }

    protected static void Pass(World world, double seconds)
    {
        world.Advance(world.Now + Duration.FromSeconds(seconds));
        world.KeepAndAnswer();
    }
}
