using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>
/// A world that runs its fleet's plans by itself, without the product: how history is made quickly. By the same rules, and with the same work, that
/// the product has it do through its drivers.
/// </summary>
internal sealed class OwnPlans : IRunActions
{
    private readonly World world;
    private readonly Dictionary<Guid, Attempt> attempts = [];

    public OwnPlans(World world, IReadOnlyList<Blackout> pauses)
    {
        (this.world, Rules) = (world, new RunRules(world.Agenda, this, world.Has));
        Rules.Pause(pauses);
        Rules.Load(world.Fleet);
    }

    public RunRules Rules { get; }

    /// <summary>What goes on of one attempt; what an earlier one still had to say is not heard.</summary>
    private sealed class Attempt
    {
        public bool Over { get; set; }

        public List<BackupWork.Going> Going { get; } = [];
    }

    /// <inheritdoc/>
    public void Gone(OpenRun open, string note) => world.Changed(new WorldChange.RunChanged(world.Now, new TaskRun
    {
        Id = open.Id,
        Plan = new(open.Plan),
        Task = open.Task,
        Kind = Enum.Parse<TaskKind>(open.Kind),
        Database = new(open.Database),
        Due = Instant.FromUnixTimeMilliseconds(open.Due),
        State = RunState.Cancelled,
        Ended = world.Now,
        Attempts = open.Attempts,
        Note = note,
        After = open.After,
        AskedBy = open.AskedBy,
    }));

    /// <inheritdoc/>
    public void Tell(Occurrence run, RunState state, string? note)
    {
        if (state == RunState.Failed)
        {
            world.Tell(run.Database.Id, "failed", $"{run.Task.Id} of {run.Series.Plan.Name} failed: {note}");
        }

        if (state.IsOver() || !world.InHistory)
        {
            world.Changed(new WorldChange.RunChanged(world.Now, run.ToRun(state, note, world.Now)));
        }
    }

    /// <inheritdoc/>
    public void Stop(Occurrence run)
    {
        if (attempts.Remove(run.Id, out var attempt))
        {
            attempt.Over = true;
            attempt.Going.ForEach(world.Work.Stop);
        }
    }

    /// <inheritdoc/>
    public void Start(Occurrence run)
    {
        Stop(run);
        var attempt = attempts[run.Id] = new Attempt();
        var (task, database) = (run.Task, run.Database.Id);
        if (task.TimeLimit is { } limit)
        {
            world.After((long)limit.TotalMilliseconds, () => End(new TaskOutcome.Fails($"it took longer than its limit of {PlainDuration.Of(limit.TotalSeconds)}", true)));
        }

        switch (task.Kind)
        {
            case TaskKind.Verify:
                attempt.Going.Add(world.Work.Later(run.Id, () => End(Verify(run))));
                break;
            case TaskKind.CleanUp:
                attempt.Going.Add(world.Work.Later(run.Id, () => End(CleanUp(run))));
                break;
            case TaskKind.IntegrityCheck:
                attempt.Going.Add(world.Work.Check(database, bytes =>
                {
                    run.DataBytes = bytes;
                    End(new TaskOutcome.Goes("no damage found"));
                }));
                break;
            case TaskKind.CopyElsewhere:
                CopyElsewhere(run, attempt, End);
                break;
            case TaskKind.TestRestore:
                TestRestore(run, End);
                break;
            case TaskKind.ShipBackup or TaskKind.ShipCopy or TaskKind.ShipApply:
                Ship(run, End);
                break;
            default:
                Take(run, attempt, End);
                break;
        }

        void End(TaskOutcome outcome)
        {
            if (!attempt.Over)
            {
                Stop(run);
                Rules.Ended(run, outcome);
            }
        }
    }

    /// <summary>A stage of all replicas of the database that log is shipped to.</summary>
    private void Ship(Occurrence run, Action<TaskOutcome> end)
    {
        var (step, keep) = (run.Task.Kind.Ships()!.Value, run.Task.Keep.KeepFor?.TotalSeconds);
        var feeds = world.Replicas.StagedOf(run.Database.Id);
        var left = feeds.Count;
        string? failed = null;
        if (left == 0)
        {
            end(new TaskOutcome.Nothing("log of it is shipped to no replica"));
        }

        foreach (var feed in feeds)
        {
            feed.Do(step, keep, (bytes, whyNot) =>
            {
                run.StoredBytes += (long)bytes;
                failed ??= whyNot;
                if (--left == 0)
                {
                    end(failed is not null ? new TaskOutcome.Fails(failed, true) : new TaskOutcome.Goes(run.StoredBytes == 0 ? "there was nothing to do" : null));
                }
            });
        }
    }

    private void Take(Occurrence run, Attempt attempt, Action<TaskOutcome> end)
    {
        if (run.Set is { } made && world[run.Database.Id].Sets.ContainsKey(made.Value))
        {
            CopyOn(run, attempt, end);
            return;
        }

        attempt.Going.Add(world.Work.Take(
            run.Id,
            TakeSpec.Of(run.Task, run.Database.Id),
            size =>
            {
                (run.DataBytes, run.StoredBytes, run.CoversSeconds) = (size.Data, size.Stored, size.CoversSeconds);
                run.ExpectedSeconds = RunPace.Alone(world.Fleet, run.Database, run.Task, size.Stored);
            },
            (set, nothing) =>
            {
                if (set is null)
                {
                    end(new TaskOutcome.Nothing(nothing!));
                    return;
                }

                run.Set = set.Id;

                // Told in the step that made it: whoever reads what is kept never finds a set without its run.
                Tell(run, RunState.Running, null);
                CopyOn(run, attempt, end);
            },
            e => end(Failed(e))));
    }

    private static TaskOutcome.Fails Failed(DriverException e) => new(e.Message, e.AgainMayHelp);

    /// <summary>Makes the further copies of a set just taken; the run is over when all are there.</summary>
    private void CopyOn(Occurrence run, Attempt attempt, Action<TaskOutcome> end)
    {
        var set = world[run.Database.Id].Sets[run.Set!.Value.Value];
        var missing = run.Task.CopyTo.Where(s => set.Copies.All(c => c.Store != s)).ToArray();
        var left = missing.Length;
        TaskOutcome.Fails? failed = null;
        if (left == 0)
        {
            end(new TaskOutcome.Goes(null));
        }

        foreach (var store in missing)
        {
            attempt.Going.Add(world.Work.Copy(run.Database.Id, set.Id, store, run.Task.Lock?.TotalSeconds, (_, _) => One(null), e => One(Failed(e))));
        }

        void One(TaskOutcome.Fails? why)
        {
            failed ??= why;
            if (--left == 0)
            {
                end(failed is null ? new TaskOutcome.Goes(null) : failed);
            }
        }
    }

    private void CopyElsewhere(Occurrence run, Attempt attempt, Action<TaskOutcome> end)
    {
        var to = run.Task.Store!.Value;
        var sets = ChosenSets.ToCopy(world[run.Database.Id].Sets.Values, run.Trigger?.Set, to);
        run.StoredBytes = sets.Sum(s => s.Copies[0].StoredBytes);
        var next = 0;
        One();

        void One()
        {
            if (next == sets.Count)
            {
                end(new TaskOutcome.Goes($"{sets.Count} sets copied to {to}"));
            }
            else
            {
                attempt.Going.Add(world.Work.Copy(run.Database.Id, sets[next++].Id, to, run.Task.Lock?.TotalSeconds, (_, _) => One(), e => end(Failed(e))));
            }
        }
    }

    private TaskOutcome Verify(Occurrence run)
    {
        SetCopy[] copies = [.. ChosenSets.ToReadBack(world[run.Database.Id].Sets.Values, run.Trigger?.Set)];
        var read = world.Work.ReadBack(run.Database.Id, copies);
        run.StoredBytes += read.Sum(r => r.Bytes);
        string[] bad = [.. copies.Where(c => world[run.Database.Id].Sets[c.Set.Value].Copies.Any(x => x.Store == c.Store && x.State == CopyState.Damaged)).Select(c => $"{c.Set} in {c.Store}")];
        return bad.Length == 0 ? new TaskOutcome.Goes($"{copies.Length} copies read, all whole") : new TaskOutcome.Fails($"{copies.Length} copies read, damaged: {string.Join(", ", bad)}", false);
    }

    private TaskOutcome.Goes CleanUp(Occurrence run)
    {
        var go = Retention.ToRemove(run.Series.Plan, run.Database, new DatabaseCatalogue(run.Database.Id, world[run.Database.Id].Sets.Values), world.Now);
        var removed = world.Work.Remove(run.Database.Id, go);
        run.StoredBytes += removed.Sum(r => r.Bytes);
        return new TaskOutcome.Goes($"{go.Count} copies removed");
    }

    private async void TestRestore(Occurrence run, Action<TaskOutcome> end)
    {
        var problem = await Rehearsal.RunAsync(world, world[run.Database.Id]);
        end(problem is null ? new TaskOutcome.Goes("restored aside, checked and thrown away") : new TaskOutcome.Fails(problem, true));
    }
}
