using System.Threading.Channels;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Metrics;
using Imbrek.Server.State;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Runs;

/// <summary>
/// Carries a run of any kind out: asks <see cref="Run.Next"/> what is to be done, has the kind do it, and keeps each transition before the
/// next begins. Steps that do not wait for each other go side by side. Whatever happened to the process before, going on from what was kept
/// completes the run or undoes it.
/// </summary>
internal sealed class Runner(
    RunStore store, IEnumerable<IRunKind> kinds, Drivers drivers, FleetState fleet, IClock clock, Peers peers, ProductMetrics metrics, NpgsqlDataSource source, ILogger<Runner> log)
{
    private const double ProgressShown = 0.1;
    private static readonly TimeSpan LookAtClock = TimeSpan.FromMilliseconds(200);

    /// <summary>How long a call that was told to stop may take to do so, before nobody waits for it any more.</summary>
    private static readonly TimeSpan Grace = TimeSpan.FromSeconds(10);

    private readonly Dictionary<string, IRunKind> kinds = kinds.SelectMany(k => k.Names.Select(n => (Name: n, Kind: k))).ToDictionary(k => k.Name, k => k.Kind);

    /// <summary>Raised when a run that this process carried out is over, after that was kept.</summary>
    public event Action<RunRow>? Over;

    /// <summary>Something a run must look at.</summary>
    public abstract record News
    {
        /// <summary>People decided something.</summary>
        public sealed record Decided : News;

        /// <summary>A step is so far.</summary>
        public sealed record Progress(int Step, double Share) : News;

        /// <summary>A call ended.</summary>
        public sealed record Ended(int Step, bool Undoing, StepResult? Result, Exception? Problem, bool Abandoned, IDisposable Engaged) : News;
    }

    /// <summary>Carries a run out until it is held or has ended.</summary>
    /// <param name="claimed">The run; its fence may rise on the way, and is told then.</param>
    /// <param name="news">What it must look at; it writes there too.</param>
    /// <param name="raised">Told when its fence rises.</param>
    /// <param name="begun">Its row, when this process has just begun it; null to read it.</param>
    /// <param name="stopping">The process stops or has lost the lease: nothing more may be touched.</param>
    /// <returns>Whether it has ended: then it is nobody's already. One that is held is to be given back.</returns>
    /// <exception cref="LeaseLostException">Another process has taken the run.</exception>
    public async Task<bool> CarryOutAsync(RunStore.Claimed claimed, Channel<News> news, Action<RunStore.Claimed> raised, RunRow? begun, CancellationToken stopping)
    {
        var (row, decisions) = begun is null ? await store.ReadAsync(claimed.Id, stopping) : (begun, []);
        var kind = kinds[row.Kind];
        var run = row.ToRun();
        run = begun is null ? run.TakeUp("taken up again: the server process that was at it ended") : run;
        var sets = new Dictionary<string, BackupSet>();
        string[] proved = [];
        var family = drivers.Named(row.Driver!);
        var under = new Dictionary<int, CancellationTokenSource>();
        var named = $"{row.Kind} {row.Id}";
        var engaged = family.Engage(named);
        log.LogDebug("Run {Run} ({Kind}) is taken up with fence {Fence}", row.Id, row.Kind, claimed.Fence);
        try
        {
            run = run.Hear(decisions, row.CancelledBy);
            foreach (var step in run.Plan.Steps.Where(s => run[s.Number].State == StepState.Running && !s.IsHold))
            {
                if (run.GoesBack)
                {
                    run = run.Stop(step.Number, Now(step.Number));
                }
                else
                {
                    Start(step, undoing: false);
                }
            }

            while (true)
            {
                var now = clock.GetCurrentInstant();
                run = run.Hear(decisions, row.CancelledBy).Ask(now);
                var next = run.Next(now);
                if (next.End is { } end)
                {
                    if (await EndAsync(end))
                    {
                        return true;
                    }

                    (row, decisions) = await store.ReadAsync(claimed.Id, stopping);
                    continue;
                }

                foreach (var stop in next.Stop)
                {
                    await under[stop].CancelAsync();
                }

                foreach (var n in next.Start)
                {
                    run = run.Begin(n, Now(n));
                }

                if (!await KeepAsync(next.Start.Any(n => run.Plan[n].NoWayBack)))
                {
                    // Cancelled in the moment before there was no way back: as it was kept last, it goes back.
                    (row, decisions) = await store.ReadAsync(claimed.Id, stopping);
                    run = row.ToRun();
                    continue;
                }

                foreach (var step in next.Start.Select(n => run.Plan[n]).Where(s => !s.IsHold))
                {
                    Start(step, undoing: false);
                }

                foreach (var step in next.Undo.Where(n => !under.ContainsKey(n)).Select(n => run.Plan[n]))
                {
                    Start(step, undoing: true);
                }

                if (under.Count == 0 && next.Start.Count == 0 && next.Wake is null && next.Ask.Count > 0)
                {
                    return false;
                }

                engaged.Dispose();
                var heard = next.Start.Any(n => run.Plan[n].IsHold) ? [] : await WaitAsync(news.Reader, next.Wake, stopping);
                engaged = family.Engage(named);
                try
                {
                    foreach (var item in heard)
                    {
                        await HearAsync(item);
                    }
                }
                finally
                {
                    // All of them, also where hearing the first one failed: the world would wait for the others for ever.
                    foreach (var ended in heard.OfType<News.Ended>())
                    {
                        ended.Engaged.Dispose();
                    }
                }
            }
        }
        finally
        {
            engaged.Dispose();
            foreach (var call in under.Values)
            {
                await call.CancelAsync();
            }

            // Nobody hears any more what calls still say.
            news.Writer.TryComplete();
            while (news.Reader.TryRead(out var item))
            {
                (item as News.Ended)?.Engaged.Dispose();
            }
        }

        // No step begins before what it waits for has ended, and none ends before it began, whatever the clocks of two processes say.
        Instant Now(int step) => run.Plan[step].After.Select(a => run[a].EndedAt).Append(run[step].StartedAt).OfType<Instant>().Append(clock.GetCurrentInstant()).Max();

        RunContext Context() => new(row, run, new RunCall(claimed.Id, claimed.Fence));

        void Start(Step step, bool undoing)
        {
            var cancel = CancellationTokenSource.CreateLinkedTokenSource(stopping);
            under[step.Number] = cancel;
            _ = CallAsync(kind, Context(), step, undoing, news.Writer, family.Engage($"{named}, step {step.Number}"), cancel.Token);
        }

        async Task HearAsync(News item)
        {
            switch (item)
            {
                case News.Decided:
                    (var again, decisions) = await store.ReadAsync(claimed.Id, stopping);
                    (row.CancelledBy, row.Said) = (again.CancelledBy, again.Said);
                    break;
                case News.Progress p:
                    var shown = run[p.Step].Share;
                    run = p.Share - shown >= ProgressShown ? run.Show(p.Step, p.Share) : run;
                    break;
                case News.Ended ended:
                    if (under.Remove(ended.Step, out var call))
                    {
                        call.Dispose();
                        if (ended.Abandoned)
                        {
                            // Whatever the call may still do, it does with an old fence.
                            claimed = await store.RaiseAsync(claimed, stopping);
                            raised(claimed);
                        }

                        foreach (var set in ended.Result?.Sets ?? [])
                        {
                            sets[$"{set.Database}/{set.Id}"] = set;
                        }

                        // What was found damaged is known from now on, whoever found it.
                        if (ended.Problem is DriverException { Problem: DriverProblem.CopyDamaged, Copy: { } copy } && fleet.Has(row.Database)
                            && fleet[row.Database].Subject.Catalogue is var catalogue && catalogue.IndexOf(copy.Set) is >= 0 and var index)
                        {
                            var known = catalogue[index];
                            sets[$"{row.Database}/{copy.Set}"] = known with { Copies = [.. known.Copies.Select(c => c.Store == copy.Store ? c with { State = CopyState.Damaged } : c)] };
                        }

                        run = After(run, kind, Context(), ended, Now(ended.Step));
                    }

                    break;
            }
        }

        async Task<bool> KeepAsync(bool noWayBack)
        {
            var (steps, result) = (RunJson.WriteSteps(run), kind.Measured(Context()));
            var state = run.State(clock.GetCurrentInstant());
            if (steps == row.Steps && (short)state == row.State && row.Said == row.Heard && sets.Count == 0)
            {
                return true;
            }

            Describe(state, result, steps);
            row.NoWayBack |= noWayBack;
            if (!await store.KeepAsync(claimed, row, noWayBack ? new RunStore.Seen(run.CancelledBy) : null, sets.Values, peers.NewsOf(Touched(), [row.Id]), null, stopping))
            {
                return false;
            }

            row.Heard = row.Said;
            Tell();
            return true;
        }

        void Describe(RunState state, string? result, string steps)
        {
            (row.State, row.Result, row.Steps) = ((short)state, result, steps);
            (row.DataBytes, row.StoredBytes, row.SetId) = kind.TallyOf(Context()) is var t ? (t.DataBytes, t.StoredBytes, t.Set) : default;
            row.Started ??= run.Plan.Steps.Min(s => run[s.Number].StartedAt);
            row.Attempts = run.Plan.Steps.Select(s => run[s.Number].Attempts).DefaultIfEmpty().Max();
            row.Note = state switch
            {
                RunState.Held => run.Plan.Steps.Where(s => s.Reopens is { } hold && run[hold].Round > 0 && run[s.Number] is { State: StepState.Waiting, Note: not null })
                    .Select(s => $"\"{s.Title}\" could not be done: {run[s.Number].Note}; decide again").FirstOrDefault() ?? "ready; people decide",
                RunState.Undoing => run.CancelledBy is { } by ? $"cancelled by {by}; what was begun is being taken back" : $"{run[run.FailedStep!.Value].Note}; what was begun is being taken back",
                _ => null,
            };
        }

        async Task<bool> EndAsync(Ending end)
        {
            var (open, now) = (run, run.Plan.Steps.Select(s => run[s.Number].EndedAt).OfType<Instant>().Append(clock.GetCurrentInstant()).Max());
            run = run.Close(now);
            var conclusion = kind.Conclude(Context(), end, now);
            proved = [.. conclusion.Proofs?.Select(p => p.Database) ?? [], .. conclusion.Paces is { Count: > 0 } ? [row.Database] : Array.Empty<string>()];
            Describe(conclusion.State, kind.Measured(Context()), RunJson.WriteSteps(run));
            (row.Ended, row.Note, row.Claim) = (now, conclusion.Note.Length == 0 ? null : conclusion.Note, conclusion.Claim);
            var who = row.CancelledBy ?? run.Plan.Steps.Select(s => run[s.Number].DecidedBy).LastOrDefault(d => d is not null) ?? row.AskedBy ?? "plan";
            if (!await store.EndAsync(claimed, row, new RunStore.Seen(run.CancelledBy), conclusion, sets.Values, peers.NewsOf(Touched(), [row.Id]), kind.Names[0], who, now, stopping))
            {
                // Cancelled in the last moment: it goes on from where it was, and back.
                run = open;
                return false;
            }

            metrics.Ended(row.Kind, Core.Formats.PlanFile.Name(conclusion.State));
            if (proved.Length > 0)
            {
                await using var data = ImbrekDatabase.Context(source);
                await fleet.LoadProofsAsync(data, proved, stopping);
            }

            Tell();
            Over?.Invoke(row);
            return true;
        }

        // Sets are known to the figures, and to the other processes, once they are kept.
        void Tell()
        {
            var touched = Touched();
            if (sets.Count > 0)
            {
                foreach (var of in sets.Values.GroupBy(s => s.Database))
                {
                    fleet.Change(of.Key, of);
                }

                sets.Clear();
            }

            peers.TellHere(touched, [row.Id]);
        }

        string[] Touched() => [.. proved.Concat(sets.Values.Select(s => s.Database.Value)).Distinct()];
    }

    /// <summary>Ends a run that fails again and again for reasons of ours, visibly.</summary>
    public async Task GiveUpAsync(RunStore.Claimed claimed, string why, CancellationToken stopping)
    {
        var (row, _) = await store.ReadAsync(claimed.Id, stopping);
        var (run, now) = (row.ToRun(), clock.GetCurrentInstant());
        int[] left = [.. run.Plan.Steps.Where(s => s.Undo == Undo.Own && run[s.Number] is { StartedAt: not null, State: not StepState.Undone }).Select(s => s.Number)];
        var conclusion = kinds[row.Kind].Conclude(new RunContext(row, run, new RunCall(claimed.Id, claimed.Fence)), new Ending(RunState.Failed, run.FailedStep, left), now);
        (row.State, row.Ended, row.Note) = ((short)RunState.Failed, now, $"given up: {why}; {conclusion.Note}");
        await store.EndAsync(claimed, row, new RunStore.Seen(row.CancelledBy), conclusion with { State = RunState.Failed, Proofs = null }, [], null, kinds[row.Kind].Names[0], row.AskedBy ?? "plan", now, stopping);
        metrics.Ended(row.Kind, Core.Formats.PlanFile.Name(RunState.Failed));
        await peers.TellAsync([row.Database], [row.Id], stopping);
        Over?.Invoke(row);
    }

    private async Task CallAsync(IRunKind kind, RunContext context, Step step, bool undoing, ChannelWriter<News> news, IDisposable engaged, CancellationToken stop)
    {
        var (result, problem, abandoned) = ((StepResult?)null, (Exception?)null, false);
        using var call = CancellationTokenSource.CreateLinkedTokenSource(stop);
        try
        {
            var began = clock.GetCurrentInstant();

            // Of its own thread: nobody knows what a driver does before it first waits.
            var work = Task.Run(() => undoing ? UndoAsync() : kind.DoAsync(context, step, share => news.TryWrite(new News.Progress(step.Number, share)), call.Token), CancellationToken.None);
            var late = await LateAsync(work, began, undoing ? null : step.TimeLimitSeconds, stop);
            if (late is not null || stop.IsCancellationRequested)
            {
                await call.CancelAsync();
                await ((Task)work).WaitAsync(Grace, CancellationToken.None).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                abandoned = !work.IsCompleted;
            }

            result = abandoned ? throw new DriverException(DriverProblem.Unreachable, late ?? "its driver did not stop when it was told to")
                : late is not null && !work.IsCompletedSuccessfully ? throw new DriverException(DriverProblem.Unreachable, late)
                : await work;
        }
        catch (Exception e)
        {
            problem = e;
        }

        if (!news.TryWrite(new News.Ended(step.Number, undoing, result, problem, abandoned, engaged)))
        {
            engaged.Dispose();
        }

        async Task<StepResult> UndoAsync()
        {
            await kind.UndoAsync(context, step, call.Token);
            return new StepResult();
        }
    }

    /// <summary>Waits for a call; says so when it has taken longer than its limit, by the product's clock.</summary>
    private async Task<string?> LateAsync(Task work, Instant began, double? limit, CancellationToken stop)
    {
        while (!work.IsCompleted && !stop.IsCancellationRequested)
        {
            if (limit is { } most && (clock.GetCurrentInstant() - began).TotalSeconds > most)
            {
                return $"it did not end within its limit of {PlainDuration.Of(most)}";
            }

            await work.WaitAsync(limit is null ? Timeout.InfiniteTimeSpan : LookAtClock, stop).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }

        return null;
    }

    private async Task<IReadOnlyList<News>> WaitAsync(ChannelReader<News> news, Instant? wake, CancellationToken stopping)
    {
        var heard = new List<News>();
        while (true)
        {
            while (news.TryRead(out var item))
            {
                heard.Add(item);
            }

            if (heard.Count > 0 || wake <= clock.GetCurrentInstant())
            {
                return heard;
            }

            using var enough = CancellationTokenSource.CreateLinkedTokenSource(stopping);
            enough.CancelAfter(wake is null ? Timeout.InfiniteTimeSpan : LookAtClock);
            await ((Task)news.WaitToReadAsync(enough.Token).AsTask()).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            stopping.ThrowIfCancellationRequested();
        }
    }

    private static Run After(Run run, IRunKind kind, RunContext context, News.Ended ended, Instant at)
    {
        var step = run.Plan[ended.Step];
        switch (ended.Problem)
        {
            case DriverGoneException:
                throw ended.Problem;
            case DriverException { Problem: DriverProblem.Stale }:
                throw new LeaseLostException();
            case null when ended.Undoing:
                return run.Undid(step.Number, at);
            case not null when ended.Undoing:
                return run.UndoFailed(step.Number, at, Said(ended.Problem));
            case null when ended.Result!.LookAgainAfter is { } pause:
                return run.LookAgain(step.Number, at, at + pause, ended.Result.Note);
            case null when ended.Result!.Failed:
                return run.Fail(step.Number, at, ended.Result.Note ?? "", canRetry: false);
            case null:
                return run.Finish(step.Number, at, ended.Result!.Note, ended.Result.Measured);
            case OperationCanceledException when run.GoesBack:
                return run.Stop(step.Number, at);
            case DriverException failure:
                run = run.Fail(step.Number, at, failure.Message, failure.AgainMayHelp || (failure.Problem == DriverProblem.Refused && step.RetryRefusals));
                if (run.FailedStep == step.Number && run.CancelledBy is null)
                {
                    var (amendment, whyNot) = kind.GoOn(context with { Run = run }, failure);
                    return amendment is not null ? run.Amend(amendment) : whyNot is null ? run : run.Say(step.Number, $"{failure.Message}; {whyNot}");
                }

                return run;
            default:
                return run.Fail(step.Number, at, Said(ended.Problem), canRetry: true);
        }
    }

    private static string Said(Exception e) => e is OperationCanceledException ? "its driver broke it off, and nobody had asked for that" : e.Message;
}
