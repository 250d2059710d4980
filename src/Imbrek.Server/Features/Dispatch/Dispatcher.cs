using System.Collections.Concurrent;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
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
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Dispatch;

/// <summary>
/// Decides what starts, by <see cref="RunRules"/>, in the one process that leads. A decision and the state it leads to are kept in one transaction,
/// which also checks that this process still leads; the key of an occurrence refuses a second run of it. What starts is begun by this process; if
/// that dies, any process takes it up with a higher fence and asks the driver what became of it.
/// </summary>
internal sealed class Dispatcher : IRunActions
{
    private static readonly Duration SilenceEvery = Duration.FromMinutes(10);

    /// <summary>What was due while nobody led is run as if it were late when it was no longer than this; after that by each task's rule for what was missed.</summary>
    private static readonly Duration ShortAbsence = Duration.FromMinutes(10);
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(1);

    private readonly NpgsqlDataSource source;
    private readonly FleetState fleet;
    private readonly RunHealth health;
    private readonly Drivers drivers;
    private readonly RunWorker worker;
    private readonly Peers peers;
    private readonly LiveEvents live;
    private readonly IClock clock;
    private readonly ProductMetrics metrics;
    private readonly ILogger<Dispatcher> log;
    private readonly Dictionary<TaskKind, ITaskKind> kinds;
    private readonly Turns gate = new();
    private readonly DispatchNews news = new();
    private readonly NoticeTable noticeTable = new();
    private readonly ConcurrentQueue<RunRow> over = new();
    private readonly Dictionary<Guid, Occurrence> underWay = [];
    private readonly Decisions decided = new();
    private DispatchLead? lead;
    private Agenda agenda = new(0);
    private RunRules? rules;
    private NoticeBook? notices;
    private Instant silenceHeard;
    private long lastLook;

    public Dispatcher(
        NpgsqlDataSource source, FleetState fleet, RunHealth health, Drivers drivers, IEnumerable<IRunKind> kinds, Runner runner, RunWorker worker, Peers peers, LiveEvents live, IClock clock, ProductMetrics metrics, ILogger<Dispatcher> log)
    {
        (this.source, this.fleet, this.health, this.drivers, this.worker, this.peers, this.live, this.clock, this.metrics, this.log) =
            (source, fleet, health, drivers, worker, peers, live, clock, metrics, log);
        this.kinds = kinds.OfType<ITaskKind>().SelectMany(k => k.Names.Select(n => (Kind: PlanFile.KindNamed(n), By: k))).Where(k => k.Kind is not null).ToDictionary(k => k.Kind!.Value, k => k.By);
        runner.Over += row =>
        {
            over.Enqueue(row);
            news.Tell(DispatchNews.Of.Nothing);
        };
        peers.Heard += heard => news.Tell(
            (heard.Runs.Length > 0 ? DispatchNews.Of.Runs : 0)
            | (heard.Databases.Length > 0 || heard.Changed == Peers.Shared.Fleet ? DispatchNews.Of.Health : 0)
            | (heard.Changed is Peers.Shared.Nothing or Peers.Shared.Lag ? 0 : DispatchNews.Of.Plans));
    }

    /// <summary>Whether this process leads.</summary>
    public bool Leads => rules is not null;

    /// <summary>When something is due next; null when nothing is, or another process leads.</summary>
    public Instant? NextAt => rules is not null && agenda.Next < long.MaxValue ? Instant.FromUnixTimeMilliseconds(agenda.Next) : null;

    /// <summary>Waits until there may be something to do: somebody asked, a run ended, or some time has passed.</summary>
    public Task WaitAsync(TimeSpan atMost, CancellationToken cancel) => news.WaitAsync(atMost, cancel);

    /// <summary>Tries to lead; true when this process does from now on.</summary>
    public async Task<bool> TryLeadAsync(CancellationToken cancel)
    {
        if (await DispatchLead.TryTakeAsync(source, clock.GetCurrentInstant(), cancel) is not { } taken)
        {
            return false;
        }

        lead = taken;
        try
        {
            await BeginAsync(taken, cancel);
            return true;
        }
        catch
        {
            await LeaveAsync();
            throw;
        }
    }

    /// <summary>Lets go of the lead, and of everything that was not kept: it did not happen.</summary>
    public async Task LeaveAsync()
    {
        using var mine = await gate.TakeAsync();
        (rules, notices) = (null, null);
        underWay.Clear();
        decided.Forget();
        if (lead is { } led)
        {
            lead = null;
            await led.DisposeAsync();
        }
    }

    /// <summary>Another process leads: keeps what this one knows of the runs up to date.</summary>
    public async Task FollowAsync(CancellationToken cancel)
    {
        over.Clear();
        if (news.Take(DispatchNews.Of.Health) != 0)
        {
            try
            {
                await health.LoadAsync(cancel);
            }
            catch
            {
                news.Tell(DispatchNews.Of.Health);
                throw;
            }
        }
    }

    /// <summary>Has plans, pauses or a whole fleet that somebody changed taken over: by this process if it leads, and by all others.</summary>
    public async Task ChangedAsync(Peers.Shared what, CancellationToken cancel)
    {
        news.Tell(DispatchNews.Of.Plans);
        await peers.TellAsync([], [], cancel, what);
        await StepAsync(cancel);
    }

    /// <summary>Takes up what somebody asked for, if this process leads; otherwise the one that does will.</summary>
    public async Task TakeUpAskedAsync(CancellationToken cancel)
    {
        news.Tell(DispatchNews.Of.Runs);
        await StepAsync(cancel);
    }

    /// <summary>Decides what there is to decide up to now, and keeps it. Nothing when another process leads.</summary>
    /// <exception cref="DispatchLead.LostException">Another process may lead; nothing was kept.</exception>
    public async Task StepAsync(CancellationToken cancel)
    {
        using var mine = await gate.TakeAsync(cancel);
        if (rules is null)
        {
            return;
        }

        await HearAsync(cancel);
        agenda.Advance(clock.GetCurrentInstant().ToUnixTimeMilliseconds());
        HearSilence();
        if (decided.Any || notices!.Changed.Count > 0)
        {
            await KeepAsync(cancel);
        }
    }

    /// <inheritdoc/>
    public void Start(Occurrence run)
    {
        underWay[run.Id] = run;
        var family = drivers.TryFor(run.Database);
        var (question, steps, whyNot) = family is null ? (null, null, "there is no driver for it") : kinds[run.Task.Kind].Plan(run);
        if (steps is null)
        {
            // Nobody carries it out, so nobody else keeps how it ended.
            underWay.Remove(run.Id);
            rules!.Ended(run, new TaskOutcome.Fails(whyNot!, false));
            return;
        }

        var now = clock.GetCurrentInstant();
        foreach (var first in steps.Next(now).Start)
        {
            steps = steps.Begin(first, now);
        }

        var r = run.ToRun(RunState.Running, null, now);
        decided.Start(run, new RunRow
        {
            Id = r.Id,
            Kind = PlanFile.Name(r.Kind),
            Database = r.Database.Value,
            Plan = r.Plan.Value,
            Task = r.Task,
            Due = r.Due,
            State = (short)RunState.Running,
            Started = now,
            Attempts = 1,
            ExpectedSeconds = r.ExpectedSeconds,
            AfterId = r.After,
            AskedBy = r.AskedBy,
            OutsideChain = run.Task.OutsideChain,
            Driver = family!.Name,
            Question = question,
            Steps = RunJson.WriteSteps(steps),
            Fence = 1,
            LeaseOwner = live.Process,
        });
    }

    /// <inheritdoc/>
    public void Stop(Occurrence run)
    {
        // Who carries it out hears of it by what people wrote into the run.
    }

    /// <inheritdoc/>
    public void Gone(OpenRun run, string note) => decided.Tell(new TaskRun
    {
        Id = run.Id,
        Plan = new(run.Plan),
        Task = run.Task,
        Kind = Enum.Parse<TaskKind>(run.Kind),
        Database = new(run.Database),
        Due = Instant.FromUnixTimeMilliseconds(run.Due),
        State = RunState.Cancelled,
        Ended = clock.GetCurrentInstant(),
        Note = note,
        After = run.After,
        AskedBy = run.AskedBy,
    });

    /// <inheritdoc/>
    public void Tell(Occurrence run, RunState state, string? note)
    {
        var now = clock.GetCurrentInstant();
        var r = run.ToRun(state, note, now);
        notices!.Hear(r);
        var carriedOut = underWay.ContainsKey(run.Id);
        if (state.IsOver())
        {
            underWay.Remove(run.Id);
            var begun = !decided.Withdraw(run.Id);
            if (carriedOut && begun && state != RunState.LeftOut)
            {
                // Its runner has kept how it ended; only how it stands among its like is known here.
                if (run.Oddity is { } oddity)
                {
                    decided.StandsOut(run.Id, oddity);
                }

                health.Hear([r]);
                return;
            }
        }

        if (state != RunState.Running)
        {
            decided.Tell(r);
        }
    }

    private async Task BeginAsync(DispatchLead taken, CancellationToken cancel)
    {
        using var mine = await gate.TakeAsync(cancel);
        await using var data = ImbrekDatabase.Context(source);
        if (taken.WasLed)
        {
            // What was kept by who led before may not have been heard here yet.
            await health.LoadAsync(cancel);
        }

        var (now, from) = (clock.GetCurrentInstant(), taken.DecidedTo);
        agenda = new Agenda((now - from <= ShortAbsence ? from : now).ToUnixTimeMilliseconds());
        notices = new NoticeBook(fleet.Fleet, health.Failing);
        var begun = new RunRules(agenda, this, d => fleet.Has(d.Value) && drivers.TryFor(fleet.Fleet.DatabaseById[d]) is not null);
        rules = begun;

        // What is changed from here on is looked at again.
        news.Take(DispatchNews.Of.Plans);
        news.Tell(DispatchNews.Of.Runs);
        begun.Pause(await PausesAsync(data, cancel));
        begun.Load(fleet.Fleet);
        var open = await data.Runs.AsNoTracking().Where(r => r.Plan != null && r.State < (short)RunState.Done).OrderBy(r => r.Due).ToListAsync(cancel);
        Guid[] after = [.. open.Select(r => r.AfterId).OfType<Guid>().Distinct()];
        var sets = await data.Runs.AsNoTracking().Where(r => after.Contains(r.Id)).ToDictionaryAsync(r => r.Id, r => r.SetId, cancel);
        foreach (var r in open)
        {
            begun.TakeUp(Open(r, sets));
            if (r.Steps is not null && begun.Find(r.Id) is { } known)
            {
                underWay[r.Id] = known;
            }
        }

        if (now - from > ShortAbsence)
        {
            begun.CatchUp(from.ToUnixTimeMilliseconds());
        }

        log.LogInformation("This process decides what starts, from {Now}", now);
    }

    private static OpenRun Open(RunRow r, Dictionary<Guid, string?> sets) => new(
        r.Plan!, r.Task!, PlanFile.KindNamed(r.Kind)!.Value.ToString(), r.Database, r.Due.ToUnixTimeMilliseconds(), r.Attempts, r.OutsideChain, r.SetId, r.AfterId, r.AfterId is { } a ? sets.GetValueOrDefault(a) : null, r.AskedBy, r.Steps is not null);

    private static async Task<IReadOnlyList<Blackout>> PausesAsync(ImbrekContext data, CancellationToken cancel) =>
    [
        .. (await data.Pauses.AsNoTracking().ToListAsync(cancel)).Select(p => p.ToBlackout()),
    ];

    /// <summary>Takes over what was asked, changed or ended since the last step, by whichever process.</summary>
    private async Task HearAsync(CancellationToken cancel)
    {
        while (over.TryDequeue(out var row))
        {
            HearOver(row);
        }

        var look = Environment.TickCount64 - lastLook > LookEvery.TotalMilliseconds;

        var heard = news.Take(DispatchNews.Of.Plans | DispatchNews.Of.Runs) | (look ? DispatchNews.Of.Runs : 0);
        if (heard == 0)
        {
            return;
        }

        try
        {
            await using var data = ImbrekDatabase.Context(source);
            if (heard.HasFlag(DispatchNews.Of.Plans))
            {
                rules!.Pause(await PausesAsync(data, cancel));
                rules.Load(fleet.Fleet);
                notices!.Fleet = fleet.Fleet;
            }

            if (heard.HasFlag(DispatchNews.Of.Runs))
            {
                await HearAskedAsync(data, cancel);

                // What another process carries out is read when it says something, and each second, for news may be lost.
                Guid[] known = [.. underWay.Keys.Except(decided.Starts.Select(s => s.Id))];
                foreach (var row in await data.Runs.AsNoTracking().Where(r => known.Contains(r.Id) && r.State >= (short)RunState.Done).OrderBy(r => r.Ended).ToListAsync(cancel))
                {
                    HearOver(row);
                }
            }

            if (look)
            {
                lastLook = Environment.TickCount64;
                await lead!.CheckAsync(cancel);
            }
        }
        catch
        {
            news.Tell(heard | DispatchNews.Of.Runs);
            throw;
        }
    }

    private async Task HearAskedAsync(ImbrekContext data, CancellationToken cancel)
    {
        var rows = await data.Runs.AsNoTracking()
            .Where(r => r.Plan != null && r.Steps == null && ((r.State == (short)RunState.Waiting && r.AskedBy != null) || (r.State < (short)RunState.Done && r.CancelledBy != null))).ToListAsync(cancel);
        foreach (var r in rows)
        {
            rules!.TakeUp(Open(r, []));
            if (r.CancelledBy is { } who && !rules.Cancel(r.Id, who))
            {
                Gone(Open(r, []), $"ended by {who}");
            }
        }
    }

    private void HearOver(RunRow row)
    {
        if (!underWay.TryGetValue(row.Id, out var run))
        {
            return;
        }

        (run.DataBytes, run.StoredBytes, run.Attempts) = (row.DataBytes, row.StoredBytes, row.Attempts);
        run.Set = row.SetId is null ? null : new(row.SetId);
        run.Started = row.Started;
        run.CoversSeconds = run.Task.Kind == TaskKind.Log ? TaskSteps.MeasuredBy(row.ToRun()).Sum(m => m.CoversSeconds) : 0;

        switch (row.StateIs)
        {
            case RunState.Done:
                rules!.Ended(run, new TaskOutcome.Goes(row.Note));
                break;
            case RunState.Cancelled:
                rules!.Cancel(row.Id, row.CancelledBy ?? "somebody");
                break;
            case RunState.LeftOut:
                rules!.Ended(run, new TaskOutcome.Nothing(row.Note ?? ""));
                break;
            default:
                rules!.Ended(run, new TaskOutcome.Fails(row.Note ?? "", false));
                break;
        }
    }

    private void HearSilence()
    {
        var now = clock.GetCurrentInstant();
        if (now - silenceHeard > SilenceEvery)
        {
            silenceHeard = now;
            notices!.Hear(now, d => fleet[d].Subject.Catalogue is { Count: > 0 } c ? c[c.Count - 1].CoversTo : null);
        }
    }

    private async Task KeepAsync(CancellationToken cancel)
    {
        RunRow[] begun = [.. decided.Starts];
        var (told, started) = await decided.KeepAsync(source, lead!, noticeTable, notices!, clock.GetCurrentInstant(), Instant.FromUnixTimeMilliseconds(agenda.Now), cancel);
        TaskRun[] all = [.. told, .. started];
        health.Hear(all);
        foreach (var r in told.Where(r => r.State is RunState.Done or RunState.Failed))
        {
            metrics.Ended(PlanFile.Name(r.Kind), PlanFile.Name(r.State));
        }

        worker.Begin(begun);
        if (all.Length > 0)
        {
            await peers.TellAsync([], [.. all.Select(r => r.Id).Take(50)], cancel);
        }
    }
}
