using System.Diagnostics;
using System.Text.Json;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Replication;
using Imbrek.Data;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.State;
using Imbrek.StandIn;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Npgsql;

namespace Imbrek.Demo;

/// <summary>
/// Runs the simulated world of a demo in the one server process that holds its folder: leads its clock, which is the product's, has the dispatcher
/// decide at each step, and lets the world stand still while somebody who acts in it is at their own work. The world keeps itself; who acts in it
/// is answered only after that.
/// </summary>
internal sealed class WorldHost(
    NpgsqlDataSource source, FleetState fleet, ProductClock clock, LiveEvents live, Peers peers, Dispatcher dispatcher, LagIntake lag, FleetChanges parts, ReplicaBook book, WorldFamily family, DemoOptions options, ILogger<WorldHost> log) : BackgroundService
{
    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(50);
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);

    /// <summary>How long one step of the world waits, in all, for runs that are at their own work.</summary>
    private static readonly TimeSpan LongestThought = TimeSpan.FromSeconds(2);

    /// <summary>How often it is said, at most, for whom the world waits.</summary>
    private static readonly TimeSpan SayWhoEvery = TimeSpan.FromSeconds(30);

    /// <summary>What falls within this time of the machine is decided and answered together: at a fast pace the product would otherwise do nothing but step.</summary>
    private const double TogetherSeconds = 0.05;

    /// <summary>What was seen of replicas is taken in no more often than this, by the machine: at a fast pace each step of the world would have something.</summary>
    private static readonly TimeSpan SeenEvery = TimeSpan.FromSeconds(0.5), SeenAtMostEvery = TimeSpan.FromSeconds(0.1);

    /// <summary>At a fast pace what is seen is told this soon of the world, as far as that is not too often of the machine.</summary>
    private static readonly Duration SeenWithin = Duration.FromSeconds(5);

    /// <summary>Up to when all that was seen has been told, milliseconds.</summary>
    private long toldTo;

    private readonly Turns step = new();
    private readonly List<WorldChange> unkept = [];
    private readonly List<LagSample> unseen = [];
    private Stopwatch? sinceSeen;
    private Stopwatch? sinceSaid;
    private double pace = 1;
    private volatile bool plansChanged;
    private FileStream? heldEarly;
    private Task<World>? early;

    /// <summary>Whether this server shows a demo.</summary>
    public bool IsDemo => options.Folder is not null;

    /// <summary>The world, while this process runs it.</summary>
    public World? World => family.World;

    /// <summary>Seconds of the world a second of the wall clock; 0 is paused.</summary>
    public double Pace => pace;

    /// <summary>
    /// Begins to open the world, if no other process has it, while the rest of the server starts. Its time is told from now on, as it was last kept: a run that was taken up before the world is open must not wait for an
    /// instant of the machine's clock, which may lie days after the world's.
    /// </summary>
    public void OpenEarly()
    {
        Follow();
        if ((heldEarly = Hold()) is not null)
        {
            early = Task.Run(Open);
        }
    }

    private World Open() => World.Open(options.Folder!, s => TarnholtFerries.Create(s.MadeAt, s.HistoryDays));

    /// <summary>Changes the pace.</summary>
    public async Task SetPaceAsync(double value, CancellationToken cancel)
    {
        using var mine = await step.TakeAsync(cancel);
        if (World is { } w)
        {
            w.Pace = pace = value;
            w.KeepAndAnswer();
        }

        TellClock();
    }

    /// <summary>Lets time pass until something happens.</summary>
    public async Task ToNextEventAsync(CancellationToken cancel)
    {
        if (World is { } w && (w.NextEvent, dispatcher.NextAt) is var (event1, event2) && (event1 ?? event2) is not null)
        {
            await StepAsync(w, () => Instant.Min(event1 ?? Instant.MaxValue, event2 ?? Instant.MaxValue), cancel);
            TellClock();
        }
    }

    /// <summary>Lets time pass at once, as fast as the machine can.</summary>
    public async Task ForwardAsync(Duration by, CancellationToken cancel)
    {
        if (World is { } w)
        {
            // To a millisecond, as each step goes: what lies between two of them would be waited for without end.
            var to = Instants.Floor(w.Now + by);
            while (w.Now < to)
            {
                // In pieces, so that runs that wait for something go on in between.
                await StepAsync(w, () => Instant.Min(to, w.Now + Duration.FromMinutes(1)), cancel);
            }

            TellClock();
        }
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        fleet.PlansTaken += () => plansChanged = true;
        while (IsDemo && !stoppingToken.IsCancellationRequested)
        {
            try
            {
                using var held = Interlocked.Exchange(ref heldEarly, null) ?? Hold();
                if (held is null)
                {
                    Follow();
                    await dispatcher.FollowAsync(stoppingToken);
                    await WaitAsync(Look, stoppingToken);
                }
                else
                {
                    await LeadAsync(stoppingToken);
                }
            }
            catch (Exception) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                // Whatever it is, the server goes on and tries again; only the world stands still until then.
                log.LogWarning(e is NpgsqlException or IOException or InvalidOperationException or DispatchLead.LostException ? null : e, "The world stands still: {Reason}", e.Message);
                await LeaveAsync();
                await WaitAsync(Look, stoppingToken);
            }
        }

        await LeaveAsync();
    }

    /// <summary>Takes the folder of the world for this process; null while another has it. A process that ends lets go of it, however it ends.</summary>
    private FileStream? Hold()
    {
        try
        {
            return new FileStream(Path.Combine(options.Folder!, "world.lock"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException)
        {
            return null;
        }
    }

    /// <summary>
    /// Lets go of the world and of the lead: who does not hold both must not seem to, to runs least of all. The world goes on from what it kept.
    /// </summary>
    private async Task LeaveAsync()
    {
        var w = World;
        family.World = null;
        w?.Dispose();
        await dispatcher.LeaveAsync();
    }

    private static async Task WaitAsync(TimeSpan time, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(time);
        await timer.WaitForNextTickAsync(cancel);
    }

    /// <summary>Another process runs the world, or nobody does yet: tells its time, as it was last kept.</summary>
    private void Follow()
    {
        if (World.LastKept(options.Folder!) is { } kept)
        {
            pace = kept.Pace;
            var (then, since) = (kept.Now, Stopwatch.StartNew());
            clock.Follow(() => then + Duration.FromSeconds(Math.Min(2, since.Elapsed.TotalSeconds) * kept.Pace));
        }
    }

    private async Task LeadAsync(CancellationToken cancel)
    {
        var w = await (early ?? Task.Run(Open, cancel));
        early = null;
        family.World = w;
        pace = w.Pace;
        Volatile.Write(ref toldTo, w.Now.ToUnixTimeMilliseconds());
        clock.Follow(() => w.Now, () => Instant.FromUnixTimeMilliseconds(Volatile.Read(ref toldTo)));
        TakeOver(w);
        log.LogInformation("The world goes on from {Now}", w.Now);
        while (!await dispatcher.TryLeadAsync(cancel))
        {
            // Who led before has not noticed yet that it does no longer.
            await WaitAsync(Look, cancel);
        }

        using var timer = new PeriodicTimer(Tick);
        var wall = Stopwatch.StartNew();
        var shown = -1L;
        while (await timer.WaitForNextTickAsync(cancel))
        {
            var passed = wall.Elapsed;
            wall.Restart();
            await StepAsync(w, () => w.Now + Duration.FromSeconds(Math.Min(passed.TotalSeconds, 1) * pace), cancel);
            if (Stopwatch.GetTimestamp() / Stopwatch.Frequency is var second && second != shown)
            {
                shown = second;
                TellClock();
            }
        }
    }

    /// <param name="w">The world.</param>
    /// <param name="until">How far, asked once nobody else steps: who has paused the world, and was told so, must not see it go on at the pace of before.</param>
    /// <param name="cancel">Stops between two steps.</param>
    private async Task StepAsync(World w, Func<Instant> until, CancellationToken cancel)
    {
        using var mine = await step.TakeAsync(cancel);
        ObjectDisposedException.ThrowIf(w != World, w);

        // The world counts milliseconds: what lies between two of them would never be reached.
        var to = Instants.Floor(until());
        var thought = Stopwatch.StartNew();
        var together = Duration.FromSeconds(TogetherSeconds * pace);
        do
        {
            // Asked at each piece: a long step must not run by a fleet that a run has changed within it.
            if (plansChanged)
            {
                TakeOver(w);
            }

            var due = dispatcher.NextAt is { } at ? Instant.Max(at, w.Now + together) : to;
            w.Advance(Instant.Min(to, Instant.Min(due, w.Now + Duration.Max(together, Duration.FromSeconds(1)))), evenIfSomebodyThinks: thought.Elapsed > LongestThought);
            w.KeepAndAnswer();
            await UntilNobodyThinksAsync(w);
            await dispatcher.StepAsync(cancel);
            await UntilNobodyThinksAsync(w);
            unkept.AddRange(w.TakeChanges());
            await KeepAsync(cancel);
            await NameAsync(w, cancel);
            unseen.AddRange(w.Replicas.TakeSamples());
            var now = w.Now;
            if (sinceSeen is null || sinceSeen.Elapsed > SeenEvery || ((now - Instant.FromUnixTimeMilliseconds(toldTo)) > SeenWithin && sinceSeen.Elapsed > SeenAtMostEvery))
            {
                await lag.TakeAsync(unseen, cancel);
                unseen.Clear();
                sinceSeen = Stopwatch.StartNew();
                Volatile.Write(ref toldTo, now.ToUnixTimeMilliseconds());
            }
        }
        while (w.Now < to);
    }

    /// <summary>Waits for who is engaged, and says so when it was in vain: a pace that is not kept should have a name.</summary>
    private async Task UntilNobodyThinksAsync(World w)
    {
        if (!await w.WhenNobodyThinksAsync(LongestThought) && !(sinceSaid?.Elapsed < SayWhoEvery))
        {
            sinceSaid = Stopwatch.StartNew();
            log.LogWarning("The world has waited {Seconds} s in vain for one of: {Who}", LongestThought.TotalSeconds, string.Join("; ", w.Engaged.Take(8)));
        }
    }

    /// <summary>Has the world run by the plans, and hold the replicas, that the product keeps.</summary>
    private void TakeOver(World w)
    {
        plansChanged = false;
        w.SetPlans(fleet.Fleet.Plans);
        w.Replicas.Set(fleet.Fleet);
    }

    /// <summary>Keeps what people should read, and markers: what happened is told, and no more than told.</summary>
    private async Task KeepAsync(CancellationToken cancel)
    {
        if (unkept.Count == 0)
        {
            return;
        }

        await using var data = ImbrekDatabase.Context(source);
        foreach (var change in unkept)
        {
            AddRow(data, change);
        }

        await data.SaveChangesAsync(cancel);
        string[] databases = [.. unkept.Select(c => c.Database).OfType<Id<Database>>().Select(d => d.Value).Distinct()];
        unkept.Clear();
        await peers.TellAsync(databases, [], cancel);
    }

    /// <summary>
    /// Names in the fleet what the world did unasked: a replica that took over by itself. Found by what the world is, so that a crash loses none; what a run promotes, that run names; a drill in which nobody helps promotes none.
    /// </summary>
    private async Task NameAsync(World w, CancellationToken cancel)
    {
        var here = fleet.Fleet;
        foreach (var d in w.Fleet.Databases)
        {
            if (!here.DatabaseById.TryGetValue(d.Id, out var known) || d.Branches.Count == known.Branches.Count || d.Host == known.Host)
            {
                continue;
            }

            var now = w.Now;
            var replica = here.ReplicaList.FirstOrDefault(r => r.Database == d.Id && !(r.Until <= now) && r.Place.Hosts.Contains(d.Host) && !w.Fleet.Replicas.ContainsKey(r.Id));
            await using var asked = source.CreateCommand("select exists (select 1 from runs where claim = $1 and not (kind in ('drill', 'joint-drill') and question->>'kind' = 'automatic'))");
            asked.Parameters.AddWithValue($"replica:{TakeOverKind.ClaimOf(here, d.Id)}");
            if (replica is null || await asked.ExecuteScalarAsync(cancel) is true)
            {
                continue;
            }

            await parts.KeepAsync(TakeOverKind.Named(parts, here, d.Id.Value, d.Branches[^1], d.Host.Value, known.Host.Value, replica.Id.Value), $"{replica.Id} has taken over by itself", "the voters", cancel);
            await book.ForgetAsync(replica.Id, cancel);
        }
    }

    /// <summary>Adds markers and happenings.</summary>
    internal static void AddRow(ImbrekContext data, WorldChange change)
    {
        switch (change)
        {
            case WorldChange.MarkerWritten m:
                data.Markers.Add(new MarkerRow { Database = m.Of.Value, Name = m.Name, At = m.At });
                break;
            case WorldChange.Happened h:
                data.Happenings.Add(new HappeningRow { At = h.At, Database = h.Of?.Value, Kind = h.Kind, Text = h.Text });
                break;
        }
    }

    private void TellClock() => live.Publish(new LiveEvent("clock", JsonSerializer.Serialize(new
    {
        now = Instants.Write(clock.GetCurrentInstant()),
        pace,
    })));
}
