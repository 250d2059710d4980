using System.Diagnostics;
using System.Text.Json;
using Imbrek.Core.Drivers;
using Imbrek.Core.Notices;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Metrics;
using Imbrek.Server.Features.Notices;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.State;
using Imbrek.StandIn;
using Imbrek.StandIn.Scenario;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Setup;

/// <summary>
/// Runs the simulated world of a demo in one server process: paces its clock, keeps what happens in PostgreSQL together with what
/// the world must remember, and tells everybody. What was not kept when a process is killed did not happen.
/// </summary>
internal sealed class WorldHost(
    NpgsqlDataSource source, FleetState fleet, RunHealth health, ProductClock clock, LiveEvents live, Peers peers, DemoOptions options, ProductMetrics metrics, ILogger<WorldHost> log) : BackgroundService, IDriverFamily
{
    private const long LeadLock = 0x3_4D_42_52_45_4B;
    private const int MostSteps = 8;
    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(200);
    private static readonly Duration LongestStep = Duration.FromMinutes(1);

    /// <summary>How long one step of the world waits, in all, for runs that are at their own work.</summary>
    private static readonly TimeSpan LongestThought = TimeSpan.FromSeconds(2);
    private static readonly Duration SilenceEvery = Duration.FromMinutes(10);
    private readonly List<WorldChange> unsaved = [];
    private readonly Lazy<HashSet<Core.Fleet.Id<Core.Fleet.Database>>> inWorld = new(() => [.. TarnholtFerries.Create(SystemClock.Instance.GetCurrentInstant()).Databases.Select(d => d.Id)]);
    private readonly SemaphoreSlim step = new(1);
    private double pace = 1;
    private World? world;
    private readonly NoticeTable noticeTable = new();
    private NoticeBook? notices;
    private int lead;
    private Instant silenceHeard;
    private volatile bool asked = true;
    private volatile bool plansChanged;
    private volatile bool runsChanged = true;

    /// <summary>Whether this server shows a demo.</summary>
    public bool IsDemo => options.Folder is not null;

    /// <summary>The world, while this process runs it.</summary>
    public World? World => world;

    /// <inheritdoc/>
    public string Name => "world";

    /// <inheritdoc/>
    public bool Here => world is not null;

    /// <inheritdoc/>
    public IRestoreDriver Restore => new StandInDriver(Led());

    /// <inheritdoc/>
    public bool Knows(Core.Fleet.Database database) => IsDemo && inWorld.Value.Contains(database.Id);

    /// <inheritdoc/>
    public IDisposable Engage() => Led().Engage();

    private World Led() => world ?? throw new DriverGoneException("the world is run by another process");

    /// <summary>Seconds of the world a second of the wall clock; 0 is paused.</summary>
    public double Pace => pace;

    /// <summary>Changes the pace.</summary>
    public async Task SetPaceAsync(double value, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        await data.Worlds.ExecuteUpdateAsync(u => u.SetProperty(w => w.Pace, value), cancel);
        pace = value;
        TellClock();
    }

    /// <summary>Lets time pass until something happens.</summary>
    public async Task ToNextEventAsync(CancellationToken cancel)
    {
        if (world is { } w && w.NextEvent is { } next)
        {
            await StepAsync(w, next, cancel);
            TellClock();
        }
    }

    /// <summary>Lets time pass at once, as fast as the machine can.</summary>
    public async Task ForwardAsync(Duration by, CancellationToken cancel)
    {
        if (world is { } w)
        {
            var to = w.Now + by;
            while (w.Now < to)
            {
                // In pieces, so that runs that wait for something go on in between.
                await StepAsync(w, Instant.Min(to, w.Now + Duration.FromMinutes(10)), cancel);
            }

            TellClock();
        }
    }

    /// <summary>Takes up what somebody asked for, if this process runs the world; otherwise the one that does will.</summary>
    public async Task TakeUpAskedAsync(CancellationToken cancel)
    {
        asked = true;
        if (world is { } w)
        {
            await StepAsync(w, w.Now, cancel);
        }
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        peers.Heard += news =>
        {
            asked |= news.Runs.Length > 0;
            runsChanged |= news.Databases.Length > 0 || news.Changed == Peers.Shared.Fleet;
            plansChanged |= news.Changed != Peers.Shared.Nothing;
        };
        while (IsDemo && !stoppingToken.IsCancellationRequested)
        {
            try
            {
                await using var lead = await source.OpenConnectionAsync(stoppingToken);
                await using var take = new NpgsqlCommand($"select pg_try_advisory_lock({LeadLock})", lead);
                if ((bool)(await take.ExecuteScalarAsync(stoppingToken))!)
                {
                    await LeadAsync(lead, stoppingToken);
                }
                else
                {
                    await FollowAsync(stoppingToken);
                }
            }
            catch (LeadLostException)
            {
                // Another process leads and has gone on from what was last kept; what this one did since did not happen.
                log.LogWarning("Another process may run the world now");
                Leave();
            }
            catch (Exception) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                // Whatever it is, the server goes on and tries again; only the world stands still until then.
                log.LogWarning(e is NpgsqlException or IOException or DbUpdateException or InvalidOperationException ? null : e, "The world stands still: {Reason}", e.Message);
                Leave();
                await WaitAsync(TimeSpan.FromSeconds(1), stoppingToken);
            }
        }
    }

    /// <summary>
    /// Lets go of the world: who does not hold the lock any more must not seem to run it, to runs least of all. What is kept is read again by
    /// whoever leads next.
    /// </summary>
    private void Leave()
    {
        world?.Dispose();
        (world, notices) = (null, null);
        unsaved.Clear();
    }

    private static async Task WaitAsync(TimeSpan time, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(time);
        await timer.WaitForNextTickAsync(cancel);
    }

    /// <summary>Another process runs the world: tells its time.</summary>
    private async Task FollowAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        if (await data.Worlds.AsNoTracking().SingleOrDefaultAsync(cancel) is { } row)
        {
            pace = row.Pace;
            var (then, since) = (Instant.FromUnixTimeMilliseconds(JsonSerializer.Deserialize<WorldState>(row.State)!.Now), Stopwatch.StartNew());
            clock.Follow(() => then + Duration.FromSeconds(Math.Min(2, since.Elapsed.TotalSeconds) * row.Pace));
        }

        if (runsChanged)
        {
            runsChanged = false;
            await health.LoadAsync(cancel);
        }

        await WaitAsync(TimeSpan.FromSeconds(1), cancel);
    }

    private async Task LeadAsync(NpgsqlConnection lead, CancellationToken cancel)
    {
        if (world is null)
        {
            await OpenAsync(cancel);
        }

        using var timer = new PeriodicTimer(Tick);
        var wall = Stopwatch.StartNew();
        var shown = -1L;
        while (await timer.WaitForNextTickAsync(cancel))
        {
            var passed = wall.Elapsed;
            wall.Restart();
            var w = world!;

            // The clock is ahead of what is kept by a step; a long one would look as if backups were late.
            var (from, whole) = (w.Now, Duration.FromSeconds(passed.TotalSeconds * pace));
            var steps = Math.Clamp((int)Math.Ceiling(whole / LongestStep), 1, MostSteps);
            for (var i = 1; i <= steps; i++)
            {
                await StepAsync(w, from + (whole * i / steps), cancel);
            }

            if (Stopwatch.GetTimestamp() / Stopwatch.Frequency is var second && second != shown)
            {
                shown = second;
                TellClock();

                // News may be lost; what was asked for is not.
                asked = true;

                // The lock goes with the connection: when that is gone another process may lead.
                await using var alive = new NpgsqlCommand("select 1", lead);
                await alive.ExecuteScalarAsync(cancel);
            }
        }
    }

    private async Task OpenAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var row = await data.Worlds.AsNoTracking().SingleAsync(cancel);
        var script = TarnholtFerries.Create(row.MadeAt, row.HistoryDays);
        if (row.Lead > 0)
        {
            // Another process led before: what it kept last may not have been heard here yet, and what is not known would be taken again.
            await fleet.LoadAsync(cancel);
            await health.LoadAsync(cancel);
        }

        var known = fleet.Fleet.Databases.SelectMany(d => fleet[d.Id].Subject.Catalogue.Sets);
        // With the plans and pauses that are in force: what was open when a process ended goes on by them.
        var opened = new World(
            options.Folder!, script with { Fleet = script.Fleet.WithPlans(fleet.Fleet.Plans) }, JsonSerializer.Deserialize<WorldState>(row.State), known, await PausesAsync(data, cancel));
        notices = new NoticeBook(fleet.Fleet, health.Failing);
        lead = row.Lead + 1;
        await data.Worlds.ExecuteUpdateAsync(u => u.SetProperty(w => w.Lead, lead), cancel);
        pace = row.Pace;
        clock.Follow(() => opened.Now);
        world = opened;
        asked = true;
        log.LogInformation("The world goes on from {Now}", opened.Now);
    }

    /// <summary>Has plans, pauses or a whole fleet that somebody changed taken over: by this process if it runs the world, and by all others.</summary>
    public async Task ChangedAsync(Peers.Shared what, CancellationToken cancel)
    {
        await peers.TellAsync([], [], cancel, what);
        plansChanged = true;
        if (world is { } w)
        {
            await StepAsync(w, w.Now, cancel);
        }
    }

    private static async Task<IReadOnlyList<Blackout>> PausesAsync(ImbrekContext data, CancellationToken cancel) =>
    [
        .. (await data.Pauses.AsNoTracking().ToListAsync(cancel)).Select(p => p.ToBlackout()),
    ];

    private async Task StepAsync(World w, Instant to, CancellationToken cancel)
    {
        await step.WaitAsync(cancel);
        try
        {
            await HearAsync(w, cancel);
            var thought = Stopwatch.StartNew();
            while (!w.Advance(to, evenIfSomebodyThinks: thought.Elapsed > LongestThought))
            {
                await w.WhenNobodyThinksAsync(LongestThought);
            }

            var changes = w.TakeChanges();
            unsaved.AddRange(changes);
            Tell(w, changes);
            await KeepAsync(w, cancel);
        }
        finally
        {
            step.Release();
        }
    }

    /// <summary>Takes over what was asked of this process since the last step, by whichever process.</summary>
    private async Task HearAsync(World w, CancellationToken cancel)
    {
        var (plans, runs) = (plansChanged, asked);
        plansChanged = asked = false;
        try
        {
            await using var data = ImbrekDatabase.Context(source);
            if (plans)
            {
                w.SetPlans(fleet.Fleet.Plans);
                w.SetPauses(await PausesAsync(data, cancel));
                notices!.Fleet = fleet.Fleet;
            }

            if (runs)
            {
                await TakeUpAsync(w, data, cancel);
            }
        }
        catch
        {
            (plansChanged, asked) = (plansChanged || plans, asked || runs);
            throw;
        }
    }

    private static async Task TakeUpAsync(World w, ImbrekContext data, CancellationToken cancel)
    {
        var rows = await data.Runs.AsNoTracking()
            .Where(r => r.Steps == null && ((r.State == (short)RunState.Waiting && r.AskedBy != null) || (r.State < (short)RunState.Done && r.CancelledBy != null))).ToListAsync(cancel);
        foreach (var r in rows)
        {
            w.TakeUp(new WorldState.OpenRun(
                r.Plan!, r.Task!, Core.Formats.PlanFile.KindNamed(r.Kind)!.Value.ToString(), r.Database, r.Due.ToUnixTimeMilliseconds(), r.Attempts, r.OutsideChain, r.SetId, r.AfterId, null, r.AskedBy));
            if (r.CancelledBy is { } who)
            {
                w.CancelRun(r.Id, who);
            }
        }
    }

    private async Task KeepAsync(World w, CancellationToken cancel)
    {
        // Of several changes to one set within a step only how it is at the end is kept.
        var sets = unsaved.OfType<WorldChange.SetChanged>().GroupBy(c => (c.Set.Database, c.Set.Id)).Select(g => g.Last().Set).ToArray();
        var runs = unsaved.OfType<WorldChange.RunChanged>().GroupBy(c => c.Run.Id).Select(g => g.Last().Run).ToArray();
        await using (var connection = await source.OpenConnectionAsync(cancel))
        await using (var transaction = await connection.BeginTransactionAsync(cancel))
        {
            await CatalogueTable.UpsertAsync(connection, sets, cancel);
            await using var data = ImbrekDatabase.Context(source);
            data.Database.SetDbConnection(connection);
            await data.Database.UseTransactionAsync(transaction, cancel);
            foreach (var change in unsaved)
            {
                AddRow(data, change);
            }

            await data.SaveChangesAsync(cancel);
            await RunTable.UpsertAsync(connection, runs, cancel);
            foreach (var rehearsed in unsaved.OfType<WorldChange.Rehearsed>())
            {
                await DemoSeed.KeepRehearsalAsync(data, w.Fleet, rehearsed, cancel);
            }

            await noticeTable.WriteAsync(notices!, data, cancel);

            // Clock, runs and sets are kept together or not at all; and only by the process that leads.
            if (await data.Worlds.Where(x => x.Lead == lead).ExecuteUpdateAsync(u => u.SetProperty(x => x.State, JsonSerializer.Serialize(w.Remember())), cancel) == 0)
            {
                throw new LeadLostException();
            }

            try
            {
                await transaction.CommitAsync(cancel);
            }
            catch (Exception e) when (e is NpgsqlException or IOException or InvalidOperationException)
            {
                // Whether it was kept nobody can say now; what is kept is read again before anything is written a second time.
                throw new LeadLostException(e);
            }
        }

        // Kept: from here on nothing that fails may have it written again.
        var kept = unsaved.ToArray();
        unsaved.Clear();
        notices!.Kept();
        health.Hear(runs);
        foreach (var r in runs.Where(r => r.State is RunState.Done or RunState.Failed))
        {
            metrics.Ended(Core.Formats.PlanFile.Name(r.Kind), Core.Formats.PlanFile.Name(r.State));
        }

        if (kept.OfType<WorldChange.Rehearsed>().ToArray() is { Length: > 0 } rehearsals)
        {
            await using var proofs = ImbrekDatabase.Context(source);
            await fleet.LoadProofsAsync(proofs, [.. rehearsals.Select(r => r.Of.Value)], cancel);
        }

        var touched = kept.Where(c => c.Database is not null).Select(c => c.Database!.Value).Distinct().ToArray();
        foreach (var group in sets.GroupBy(s => s.Database))
        {
            fleet.Change(group.Key, group);
        }

        if (touched.Length > 0)
        {
            await peers.TellAsync([.. touched.Select(t => t.Value)], [], cancel);
        }
    }

    /// <summary>Has the people told; once for each change, also when it is kept only at the second try.</summary>
    private void Tell(World w, IEnumerable<WorldChange> changes)
    {
        foreach (var change in changes.OfType<WorldChange.RunChanged>())
        {
            notices!.Hear(change.Run);
        }

        if (w.Now - silenceHeard > SilenceEvery)
        {
            silenceHeard = w.Now;
            notices!.Hear(w.Now, d => fleet[d].Subject.Catalogue is { Count: > 0 } c ? c[c.Count - 1].CoversTo : null);
        }
    }

    /// <summary>Adds what is no set: markers and happenings.</summary>
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
            case WorldChange.RunChanged r when r.Run.Note is not null && (r.Run.AskedBy is not null || r.Run.State is RunState.Failed or RunState.Running):
                data.RunLines.Add(new RunLineRow { RunId = r.Run.Id, At = r.At, Text = r.Run.Note });
                break;
        }
    }

    /// <summary>Another process has taken the lead.</summary>
    private sealed class LeadLostException(Exception? inner = null) : Exception("another process may lead", inner);

    private void TellClock() => live.Publish(new LiveEvent("clock", JsonSerializer.Serialize(new
    {
        now = Core.Formats.Instants.Write(clock.GetCurrentInstant()),
        pace,
    })));
}
