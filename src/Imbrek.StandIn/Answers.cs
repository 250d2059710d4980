using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.StandIn.Storage;

namespace Imbrek.StandIn;

/// <summary>What the world has answered to runs, which it answers the same when it is asked again, and the highest fence it heard of each.</summary>
internal sealed class Answers
{
    private readonly World world;
    private readonly WorldJournal? journal;
    private readonly Dictionary<Guid, long> fences = [];
    private readonly Dictionary<Guid, string> taken;
    private readonly Dictionary<Guid, string> told;

    /// <param name="world">The world.</param>
    /// <param name="journal">Where answers are kept; null for a world nobody else acts in.</param>
    /// <param name="kept">What was kept before.</param>
    public Answers(World world, WorldJournal? journal, WorldJournal.Kept? kept) =>
        (this.world, this.journal, taken, told) = (world, journal, kept?.Taken ?? [], kept?.Told ?? []);

    /// <summary>A call comes: its fence counts from now on.</summary>
    /// <exception cref="DriverException">A later call of the run was here.</exception>
    public void Enter(RunCall call)
    {
        lock (world.Gate)
        {
            if (IsStale(call) is { } stale)
            {
                throw stale;
            }

            fences[call.Run] = call.Fence;
        }
    }

    /// <summary>Why a call is no longer heard; null when it is.</summary>
    public DriverException? IsStale(RunCall call) => fences.GetValueOrDefault(call.Run) > call.Fence
        ? new DriverException(DriverProblem.Stale, $"a later process has this run: fence {fences[call.Run]} was heard, this call carries {call.Fence}")
        : null;

    /// <summary>The set that a run took before; null when it took none.</summary>
    public BackupSet? Taken(RunCall call)
    {
        lock (world.Gate)
        {
            return taken.TryGetValue(call.Run, out var key) && key.Split('/') is [var database, var set] ? world[new Id<Database>(database)].Sets.GetValueOrDefault(set) : null;
        }
    }

    /// <summary>Remembers which set a run took.</summary>
    public void Took(Guid run, BackupSet set)
    {
        var key = World.Key(set.Database, set.Id);
        taken[run] = key;
        journal?.AddTaken(run, key);
    }

    /// <summary>What a run was told before; null when nothing.</summary>
    public string? Told(RunCall call)
    {
        lock (world.Gate)
        {
            return told.GetValueOrDefault(call.Run);
        }
    }

    /// <summary>Remembers what a run is told.</summary>
    public void Tell(Guid run, string text)
    {
        told[run] = text;
        journal?.AddTold(run, text);
    }

    /// <summary>Does something after some seconds of the world, in the same step of it: what is answered has been kept.</summary>
    public async Task<T> ActAsync<T>(RunCall call, double seconds, Func<T> what, CancellationToken cancel)
    {
        Enter(call);
        T result = default!;
        Action<Exception> fail = _ => { };
        await world.Outsiders.Await(
            done => world.After((long)Math.Round(seconds * 1000), () => Finish(call, () => result = what(), done, fail)),
            cancel,
            failing: f => fail = f);
        return result;
    }

    /// <summary>Ends a call: does what it asked, unless a later one was heard meanwhile, and says so.</summary>
    public void Finish(RunCall call, Action what, Action done, Action<Exception> fail)
    {
        try
        {
            if (IsStale(call) is { } stale)
            {
                throw stale;
            }

            what();
        }
        catch (DriverException e)
        {
            fail(e);
            return;
        }

        done();
    }
}
