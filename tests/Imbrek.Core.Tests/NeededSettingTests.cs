using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>Settings that a way needs: found before, changed before anything is restored, set back when the last of it is, whichever way that went.</summary>
public class NeededSettingTests
{
    private static readonly Setting Loading = new("bulk loading", "on");
    private static readonly Instant At = Monday + Duration.FromDays(1);

    /// <summary>An export in a store near by, read at a host that is set like this; and a full before it, elsewhere.</summary>
    private static RecoverySubject Subject(params Setting[] stated)
    {
        var f = Harbour();
        var fleet = new FleetModel(
            f.SiteList, f.Links, f.ArrayList, [.. f.HostList.Select(h => h with { Settings = stated })], f.StoreList, [.. f.EngineList.Select(e => e with { LoadNeeds = [Loading], Takes = null })], f.ObjectiveList, f.ServiceList, f.Databases);
        return RecoverySubject.Of(fleet, fleet.Databases[0], new DatabaseCatalogue(new("d0"), [Set("whole", SetKind.Full, 1, Far), Set("rows", SetKind.Export, 2, Near), Set("same-rows", SetKind.Export, 2, Far)]));
    }

    private static BackupSet Set(string id, SetKind kind, int hour, Id<Store> store)
    {
        var at = Monday + Duration.FromHours(hour);
        return new() { Id = new(id), Database = new("d0"), Kind = kind, ToPosition = hour, CoversTo = at, FinishedAt = at, DataBytes = 1_000, Copies = [new(store, at, null, null, 900, CopyState.Good)] };
    }

    private static RestorePath Path(RecoverySubject s, Instant? target = null, Func<Id<BackupSet>, Id<Store>, bool>? except = null) => PathFinder.Find(s, new PathQuestion { Target = target ?? At, At = At, Except = except }).Best!;

    private static string[] Kinds(IEnumerable<Step> steps) => [.. steps.Select(s => s.Kind)];

    [Fact]
    public void What_is_not_stated_to_be_as_it_must_is_found_before_and_changed_around_what_is_restored()
    {
        var off = Subject(Loading with { Value = "off" });
        var path = Path(off);
        Assert.Equal(SetKind.Export, path.Base.Kind);
        Assert.Equal("on spare bulk loading is off, and must be on", Assert.Single(path.Needs).Said);
        Assert.Equal(PrecheckOutcome.Warned, Prechecks.Of(off, off.Fleet.Hosts[path.Host], path, Loss.None, At).Single(c => c.Name == "settings").Outcome);
        var steps = RestoreAside.Steps(off.Database, path, "x", held: true);
        Assert.Equal(["set", "provision", "restore", "set-back", "open", "check", "hold", "release", "discard"], Kinds(steps));
        Assert.Equal(Enumerable.Range(1, steps.Count), steps.Select(s => s.Number));
        Assert.All(steps.Take(7).Skip(1), s => Assert.Equal([s.Number - 1], s.After));
        Assert.Equal(Undo.Own, steps[0].Undo);

        Assert.Contains("not stated", Assert.Single(Path(Subject()).Needs).Said, StringComparison.Ordinal);
        Assert.Empty(Path(Subject(Loading)).Needs);
        Assert.DoesNotContain(Prechecks.Of(Subject(Loading), off.Fleet.Hosts[path.Host], Path(Subject(Loading)), Loss.None, At), c => c.Name == "settings");

        // A full is not loaded.
        Assert.Empty(Path(off, Monday + Duration.FromMinutes(90)).Needs);
    }

    [Fact]
    public void A_clone_made_anew_sets_it_back_too_when_it_fails()
    {
        var s = Subject(Loading with { Value = "off" });
        var steps = TemporaryCopy.Refreshed(s.Database, Path(s), "x", ["host"], [], At);
        Assert.Equal(["set", "again", "restore", "set-back"], Kinds(steps).Take(4));
        Assert.Equal([steps[0]], steps.Where(x => x.Undo == Undo.Own));
    }

    [Fact]
    public void Going_on_another_way_it_stays_set_until_that_is_restored_and_is_set_where_only_the_other_way_needs_it()
    {
        var s = Subject(Loading with { Value = "off" });
        var run = Fails(s, Path(s));
        Assert.Equal(["again", "restore", "set-back", "open", "check", "discard"], Kinds(run.Plan.Steps.Where(x => run[x.Number].State == StepState.Waiting)));
        run = Done(run, "open");
        Assert.Equal(1, run.Plan.Steps.Count(x => x.Kind == "set-back" && run[x.Number].State == StepState.Done));

        // The full fails, which nothing need be set for; the export does.
        var full = Path(s, Monday + Duration.FromMinutes(90));
        run = Fails(s, full);
        Assert.Equal(["set", "again", "restore", "set-back", "open", "check", "discard"], Kinds(run.Plan.Steps.Where(x => run[x.Number].State == StepState.Waiting)));

        // Called off in the middle of it, it is set back after what was made there is gone.
        run = Done(run, "restore");
        run = run.Hear([], "ada");
        var undone = new List<string>();
        while (run.Next(At).Undo is [var next, ..])
        {
            undone.Add(run.Plan[next].Kind);
            run = run.Undid(next, At);
        }

        Assert.Equal(["set", "provision"], undone.Order(StringComparer.Ordinal).Reverse());
    }

    [Fact]
    public async Task In_a_window_nothing_is_changed_before_it_begins()
    {
        var need = new NeededSetting(new("spare"), "bulk loading", "on", "off", At);
        var driver = new Told();
        var (set, back) = (need.ToSet(1, 0), need.ToSetBack(2, 1));
        var early = await NeededSetting.DoAsync(set, driver, new(Guid.NewGuid(), 1), At - Duration.FromSeconds(30), default);
        Assert.Equal((Duration.FromSeconds(30), 0), (early.LookAgainAfter, driver.Calls.Count));
        Assert.Equal(Duration.FromMinutes(1), (await NeededSetting.DoAsync(set, driver, new(Guid.NewGuid(), 1), At - Duration.FromHours(3), default)).LookAgainAfter);
        Assert.Null(set.TimeLimitSeconds);
        Assert.Equal(("it was off", (Duration?)null), await NeededSetting.DoAsync(set, driver, new(Guid.NewGuid(), 1), At, default) is var there ? (there.Note, there.LookAgainAfter) : default);
        await NeededSetting.DoAsync(back, driver, new(Guid.NewGuid(), 1), At, default);
        await NeededSetting.UndoAsync(set, driver, new(Guid.NewGuid(), 1), default);
        Assert.Equal(["set bulk loading on spare to on", "back bulk loading on spare", "back bulk loading on spare"], driver.Calls);
    }

    /// <summary>A run whose base cannot be read, and which goes on with what is left.</summary>
    private static Run Fails(RecoverySubject s, RestorePath path)
    {
        var run = Done(Run.Of(new RunPlan(RestoreAside.Steps(s.Database, path, "x", held: false))), "restore");
        var reading = run.Next(At).Start.Single();
        run = run.Begin(reading, At).Fail(reading, At, "it cannot be read", canRetry: false);
        var other = Path(s, except: (set, _) => set == path.Base.Set);
        return run.Amend(RestoreAside.GoOn(s.Database, run, other, new SetCopy(path.Base.Set, path.Base.Store)));
    }

    /// <summary>Everything done before the next step of a kind.</summary>
    private static Run Done(Run run, string before)
    {
        while (run.Next(At).Start is [var next, ..] && run.Plan[next].Kind != before)
        {
            run = run.Begin(next, At).Finish(next, At, measured: run.Plan[next].Kind.StartsWith("set", StringComparison.Ordinal) ? null : RestoreAside.Write(new RestoreAside.Measured(1, 1)));
        }

        return run;
    }

    /// <summary>Hears what is to be set.</summary>
    private sealed class Told : IRestoreDriver
    {
        public List<string> Calls { get; } = [];

        public Task<string> SetAsync(RunCall call, Id<Host> host, string setting, string value, CancellationToken cancel)
        {
            Calls.Add($"set {setting} on {host} to {value}");
            return System.Threading.Tasks.Task.FromResult("off");
        }

        public Task<string> SetBackAsync(RunCall call, Id<Host> host, string setting, CancellationToken cancel)
        {
            Calls.Add($"back {setting} on {host}");
            return System.Threading.Tasks.Task.FromResult("is off again");
        }

        public Task<Moved> ProvisionAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => throw new NotSupportedException();

        public Task<Moved> RestoreSetAsync(RunCall call, InstanceSpec instance, SetCopy copy, CancellationToken cancel) => throw new NotSupportedException();

        public Task<Moved> ApplyLogsAsync(RunCall call, InstanceSpec instance, IReadOnlyList<SetCopy> logs, LogStop? stop, Action<int> applied, CancellationToken cancel) => throw new NotSupportedException();

        public Task<Moved> OpenAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => throw new NotSupportedException();

        public Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, InstanceSpec instance, Instant wanted, CheckWish? wish, CancellationToken cancel) => throw new NotSupportedException();

        public Task<Moved> ReleaseAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => throw new NotSupportedException();

        public Task<QueryRows> AskAsync(InstanceSpec instance, string query, int most, CancellationToken cancel) => throw new NotSupportedException();

        public Task DiscardAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => throw new NotSupportedException();
    }
}
