using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Scenario;
using NodaTime;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>The whole Tarnholt history, run once for all tests that only look at it.</summary>
public sealed class TarnholtHistory : IDisposable
{
    public TarnholtHistory()
    {
        Script = TarnholtFerries.Create(Instant.FromUtc(2026, 11, 26, 13, 0));
        World = new World(Directory.CreateTempSubdirectory("imbrek-history").FullName, Script);
        World.Advance(Script.Now);
        Lag = World.Replicas.History.GroupBy(s => s.Replica).ToDictionary(g => g.Key, g => new LagHistory(g.Key, g));
        Sets = World.Sets.GroupBy(s => s.Database).ToDictionary(g => g.Key, g => new DatabaseCatalogue(g.Key, g).WithLag([.. World.Fleet.ReplicasOf(g.Key).Select(r => Lag[r.Id])]));
        Changes = World.TakeChanges();
    }

    public WorldScript Script { get; }

    public World World { get; }

    public Dictionary<Id<Database>, DatabaseCatalogue> Sets { get; }

    public Dictionary<Id<Replica>, LagHistory> Lag { get; }

    public IReadOnlyList<WorldChange> Changes { get; }

    public RecoverySubject Subject(string id) => RecoverySubject.Of(
        World.Fleet, World.Fleet.DatabaseById[new(id)], Sets.GetValueOrDefault(new(id)) ?? new DatabaseCatalogue(new(id), []));

    public void Dispose()
    {
        World.Dispose();
        Directory.Delete(World.Folder, recursive: true);
    }
}

public class HistoryTests(TarnholtHistory history) : IClassFixture<TarnholtHistory>
{
    private IReadOnlyList<Finding> Findings(string id) => FindingRules.Of(history.Subject(id), null, history.Script.Now, Duration.FromDays(7));

    [Fact]
    public void Has_48_databases_and_stays_within_its_bytes()
    {
        Assert.Equal(51, history.World.Fleet.Databases.Count);
        Assert.InRange(history.World.StoredBytes, 10_000_000, 200_000_000);
    }

    [Fact]
    public void Drills_were_held_and_measured_by_what_was_seen()
    {
        var held = history.Changes.OfType<WorldChange.Drilled>().ToDictionary(d => d.Question.Replica);
        Assert.Equal(history.Script.Drills.Select(d => d.Replica.Value).Order(), held.Keys.Order());
        DrillResult Of(string replica) => DrillResult.Of(held[replica].Run, held[replica].Question);

        // The whole site taken for lost: nothing is, because the gates wait for both sides.
        foreach (var gate in (string[])["gate-scans", "gate-passes"])
        {
            var result = Of(gate + "-hill");
            Assert.True(result.Passed, result.InWords());
            Assert.Equal(RunState.Done, held[gate + "-hill"].End.State);
            Assert.Equal(2, result.Changes.Count);
            Assert.All(result.Changes, c => Assert.Equal(0, c.LostSeconds));
            Assert.InRange(result.Changes[0].ServiceSeconds!.Value, 30, 300);
            Assert.True(result.Changes[0].Markers > 2);
            Assert.Equal(0, result.BothWritable);
            var d = history.World.Fleet.DatabaseById[new(gate)];
            Assert.Equal((2, 3, "quay-h2"), (d.Branches[0].Id, d.Branches[1].Id, d.Host.Value));
            Assert.Equal(gate + "-hill", Assert.Single(history.World.Fleet.ReplicasOf(d.Id)).Id.Value);
            var (proof, loss) = result.Proves(held[gate + "-hill"].Question, d, history.World.Fleet, history.Script.Now)!.Value;
            Assert.Equal((true, "site:quayside"), (proof.Passed, loss.ToString()));
        }

        Assert.True(Of("ticket-payments-hill").Passed, $"{Of("ticket-payments-hill").InWords()} {held["ticket-payments-hill"].End}: {string.Join("; ", held["ticket-payments-hill"].Run.Plan.Steps.Select(s => $"{s.Kind} {held["ticket-payments-hill"].Run[s.Number].State} {held["ticket-payments-hill"].Run[s.Number].Note}"))}");
        var lost = Of("ais-live-hill");
        Assert.False(lost.Passed);
        Assert.InRange(lost.Changes[0].LostSeconds!.Value, 22 * 60, 30 * 60);
        Assert.True(lost.Changes[0].MarkersMissing > 0);
        Assert.Contains("it lost 2", lost.InWords(), StringComparison.Ordinal);
        var calledOff = held["sailings-hill"];
        Assert.Equal((RunState.Cancelled, "operate"), (calledOff.End.State, calledOff.Run.CancelledBy));
        Assert.Empty(Of("sailings-hill").Changes);

        // Whoever looks at it now finds replicas in step and log that goes on, on the newest branch.
        foreach (var id in (string[])["gate-scans", "ais-live", "ticket-payments"])
        {
            var subject = history.Subject(id);
            Assert.Equal(3, subject.Catalogue.Sets.MaxBy(s => s.CoversTo)!.Branch);
            Assert.All(subject.Replicas, r => Assert.InRange((history.Script.Now - r.At(history.Script.Now)!.Value.ReceivedTo).TotalSeconds, 0, 60));
        }
    }

    [Theory]
    [InlineData("paint-shop", "no-sets")]
    [InlineData("cargo-manifests", "log-hole")]
    [InlineData("fares-tariffs", "damaged-copy")]
    [InlineData("spare-parts", "same-failure-domain")]
    [InlineData("crew-hours", "log-discarded")]
    public void Trouble_is_found(string database, string code) => Assert.Contains(Findings(database), f => f.Code == code);

    [Fact]
    public void A_database_without_trouble_has_only_the_finding_that_was_asked_for() =>
        Assert.Equal(["never-restored"], Findings("tickets").Select(f => f.Code));

    [Fact]
    public void The_bad_change_can_be_gone_behind()
    {
        var incident = Assert.Single(history.Script.Incidents);
        var cover = Evaluator.RecoverableAt(history.Subject(incident.Database.Value), Loss.None, history.Script.Now);
        Assert.Contains(cover, i => i.Contains(incident.At - Duration.FromMilliseconds(1)));
        Assert.Equal(IsoDayOfWeek.Monday, incident.At.InUtc().DayOfWeek);
    }

    [Fact]
    public void What_plans_promise_is_what_came_of_them_but_for_the_three_databases_whose_backups_or_replica_were_disturbed()
    {
        var (fleet, now) = (history.World.Fleet, history.Script.Now);
        Database[] planned = [.. fleet.Databases.Where(d => fleet.PlansOf(d).Count > 0)];
        var answer = Designer.Design(new DesignQuestion
        {
            Fleet = fleet,
            Series = Series.Of(fleet),
            Databases = planned,
            From = now,
            LoadOf = d => DatabaseLoad.Learned(d, history.Subject(d.Id.Value).Catalogue, now, fleet.PlansOf(d).SelectMany(p => p.Tasks)),
            WithRestore = false,
        });

        // A replica is seen no better than by one look.
        var differ = planned.Where(d => answer.ByDatabase[d.Id].Any(f =>
        {
            var observed = Evaluator.Over(history.Subject(d.Id.Value), f.Loss, now - Duration.FromDays(7), now).WorstExposureSeconds;
            return observed is null != f.Window.WorstExposureSeconds is null || Math.Abs((observed - f.Window.WorstExposureSeconds) ?? 0) > Math.Max(15, 0.1 * observed.GetValueOrDefault());
        }));
        Assert.Equal(["cargo-customs", "cargo-manifests", "notice-archive"], differ.Select(d => d.Id.Value).Order());
    }

    [Theory]
    [InlineData("sms-queue", "unasked-loss")]
    [InlineData("pensions", "delay-too-short")]
    [InlineData("web-bookings", "shipped-kept-shorter")]
    [InlineData("crew-hours", "not-replicated")]
    [InlineData("harbour-sailings", "link-too-small")]
    [InlineData("cargo-customs", "replica-cut-off")]
    public void Trouble_of_replicas_is_found(string database, string code) => Assert.Contains(Findings(database), f => f.Code == code);

    [Theory]
    [InlineData(LossKind.None, 1)]
    [InlineData(LossKind.Host, 0)]
    [InlineData(LossKind.Site, 0)]
    public void The_gates_keep_what_was_agreed(LossKind kind, double mostLost)
    {
        var subject = history.Subject("gate-scans");
        var loss = Loss.OfKind(kind).For(subject.Database, subject.Fleet);
        var way = WayFinder.Find(subject, new PathQuestion { Target = history.Script.Now, At = history.Script.Now, Loss = loss }).Best;
        Assert.InRange(Evaluator.Over(subject, loss, history.Script.Now - Duration.FromDays(7), history.Script.Now).WorstExposureSeconds!.Value, 0, mostLost);
        Assert.InRange(way!.ServiceSeconds, 30, subject.Objective!.RtoSeconds);
    }

    [Fact]
    public void Every_replica_holds_the_bytes_its_source_held_at_the_position_it_has_applied() =>
        Assert.All(history.World.Fleet.ReplicaList, r => Assert.True(history.World.Replicas.Compare(r.Id).Same, r.Id.Value));

    [Fact]
    public void What_was_watched_all_the_time_is_few_stretches_and_the_mornings_on_Outer_Skerry_are_seen_in_them()
    {
        var (from, now) = (history.Script.Now - Duration.FromDays(7), history.Script.Now);
        Assert.InRange(history.Lag[new("gate-scans-hill")].Count, 30, 60);
        Assert.Equal(Duration.Zero, history.Lag[new("gate-scans-hill")].WorstReceivedLag(from, now));
        Assert.InRange(history.Lag[new("web-bookings-shipped")].Count, 30, 80);
        Assert.InRange(history.Lag[new("sailings-skerry")].WorstReceivedLag(from, now)!.Value.TotalSeconds, 1500, 3600);
        Assert.InRange(history.Lag[new("sailings-hill")].WorstReceivedLag(from, now)!.Value.TotalSeconds, 10, 20);
        Assert.InRange(history.Lag[new("customs-hill")].WorstReceivedLag(from, now)!.Value.TotalHours, 5, 29);
    }

    [Fact]
    public void Every_rehearsal_passed_its_checks()
    {
        var rehearsed = history.Changes.OfType<WorldChange.Rehearsed>().ToArray();
        Assert.True(rehearsed.Length > 30, $"only {rehearsed.Length} rehearsals");
        Assert.All(rehearsed, r => Assert.All(r.Measure.Checks, c => Assert.True(c.Passed, $"{r.Of}: {c.Name}: {c.Detail}")));
    }

    [Fact]
    public void Log_sets_of_a_whole_chain_follow_one_another_without_a_hole()
    {
        var logs = history.Sets[new("tickets")].Sets.Where(s => s.Kind == SetKind.Log).ToArray();
        Assert.All(logs.Zip(logs.Skip(1)), p => Assert.Equal(p.First.ToPosition, p.Second.FromPosition));
    }
}

public sealed class WorldTests : IDisposable
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 23, 14, 0);
    private readonly List<string> folders = [];

    private string Folder()
    {
        var folder = Directory.CreateTempSubdirectory("imbrek-world").FullName;
        folders.Add(folder);
        return folder;
    }

    /// <summary>A small world of one database with fulls and logs, three days old.</summary>
    private static WorldScript Small(string? key = null)
    {
        var whole = TarnholtFerries.Create(Now);
        var one = whole.Databases.Single(d => d.Id.Value == "harbour-sailings") with { RehearsedDaysAgo = [], Changes = [] };
        var counters = whole.Fleet.Plans.Single(p => p.Id.Value == "counters");
        var plan = counters with
        {
            Members = new Selection { Databases = [one.Id] },
            Tasks =
            [
                counters.Task("full")! with { Key = key, Recurrence = When("daily 02:00"), CopyTo = [new("hill-s1")], SpreadOver = Duration.Zero },
                counters.Task("log")! with { Key = key, CopyTo = [new("hill-s1")], SpreadOver = Duration.Zero },
            ],
        };
        return whole with { Fleet = whole.Fleet.WithPlans([plan]), Databases = [one], Troubles = [], Begins = Now - Duration.FromDays(3), Incidents = [] };
    }

    private static Recurrence When(string words) =>
        RecurrenceWords.TryParse(words, DateTimeZoneProviders.Tzdb["Europe/Oslo"], new LocalDate(2026, 1, 1), out var recurrence, out var error) ? recurrence! : throw new InvalidOperationException(error);

    private static readonly Id<Database> Sailings = new("harbour-sailings");

    public void Dispose() => folders.ForEach(f => Directory.Delete(f, recursive: true));

    private static World Live(World history, string? key = null) =>
        new(history.Folder, Small(key), history.Remember(), history.Sets);

    private World Lived(string? key = null)
    {
        using var history = new World(Folder(), Small(key));
        history.Advance(Now);
        return Live(history, key);
    }

    private static readonly Guid Run = Guid.Parse("0c1fd7a4-6c0e-4f5b-9d66-8f1b8bb21e52");
    private static readonly RunCall Call = new(Run, 1);

    private static RecoverySubject Subject(World world) =>
        RecoverySubject.Of(world.Fleet, world.Fleet.DatabaseById[Sailings], new DatabaseCatalogue(Sailings, world.Sets));

    private static RestorePath PathTo(World world, Instant target, string? host = null) => PathFinder.Find(
        Subject(world), new PathQuestion { Target = target, At = world.Now, Choice = new(host is null ? null : new(host)) }).Best!;

    /// <summary>Carries a path out while time passes.</summary>
    private static async Task<IReadOnlyList<CheckResult>> RestoreAsync(World world, RestorePath path, string? query = null)
    {
        var driver = new StandInDriver(world);
        var instance = new InstanceSpec("aside", Sailings, path.Host, Run);
        using var engaged = world.Engage("a test");
        var work = Task.Run(async () =>
        {
            IReadOnlyList<CheckResult> checks = [];
            foreach (var step in RestoreAside.Steps(world.Fleet.DatabaseById[Sailings], path, instance.Name, held: true).TakeWhile(s => !s.IsHold))
            {
                var measured = await RestoreAside.DoAsync(step, driver, Call, instance, path.Reaches, new CheckWish(query), _ => { }, default);
                if (step.Kind == "open")
                {
                    Assert.Equal(Core.Formats.Instants.Write(path.Reaches), measured.Reached);
                }

                checks = measured.Checks ?? checks;
            }

            return checks;
        });
        await PassTimeUntilAsync(world, work);
        return await work;
    }

    private static async Task PassTimeUntilAsync(World world, Task work)
    {
        while (!work.IsCompleted)
        {
            await Task.WhenAny(work, world.WhenNobodyThinksAsync(TimeSpan.FromSeconds(5)));
            world.Advance(world.NextEvent ?? world.Now);
        }
    }

    [Fact]
    public void Same_seed_same_history_byte_for_byte()
    {
        using var one = new World(Folder(), Small());
        using var two = new World(Folder(), Small());
        one.Advance(Now);
        two.Advance(Now);
        Assert.NotEmpty(one.Sets);
        Assert.Equal(one.Sets.Select(Core.Formats.CatalogueFile.WriteLine), two.Sets.Select(Core.Formats.CatalogueFile.WriteLine));
        foreach (var file in Directory.GetFiles(Path.Combine(one.Folder, "stores"), "*", SearchOption.AllDirectories))
        {
            Assert.Equal(File.ReadAllBytes(file), File.ReadAllBytes(file.Replace(one.Folder, two.Folder, StringComparison.Ordinal)));
        }
    }

    [Fact]
    public async Task A_restore_rebuilds_the_bytes_of_any_instant_and_takes_about_as_long_as_planned()
    {
        using var world = Lived();
        var target = Now - Duration.FromHours(5) - Duration.FromMilliseconds(12_345);
        var path = PathTo(world, target);
        Assert.Equal(target, path.Reaches);
        var began = world.Now;
        var checks = await RestoreAsync(world, path, "sum values");
        Assert.All(checks, c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
        Assert.Contains(checks, c => c.Name.StartsWith("query", StringComparison.Ordinal));
        var planned = path.Seconds + world.Fleet.DatabaseById[Sailings].CheckSeconds;
        Assert.InRange((world.Now - began).TotalSeconds / planned, 0.9, 1.4);
    }

    [Fact]
    public async Task Encrypted_sets_open_only_on_a_host_that_has_their_key_and_the_precheck_says_so_before()
    {
        using var world = Lived("tarnholt-2026");
        Assert.All(world.Sets, s => Assert.Equal("tarnholt-2026", s.Key));
        var target = Now - Duration.FromHours(2);
        Precheck KeyOf(RestorePath path) =>
            Prechecks.Of(Subject(world), world.Fleet.Hosts[path.Host], path, Loss.None, world.Now).Single(c => c.Name == "key");

        var keyless = PathTo(world, target, "quay-h4");
        Assert.Equal(PrecheckOutcome.Failed, KeyOf(keyless).Outcome);
        var failed = await Assert.ThrowsAsync<DriverException>(() => RestoreAsync(world, keyless));
        Assert.Equal(DriverProblem.Refused, failed.Problem);
        Assert.Contains("encrypted with key tarnholt-2026, which is not on quay-h4", failed.Message, StringComparison.Ordinal);

        var path = PathTo(world, target, "hill-h1");
        Assert.Equal(PrecheckOutcome.Passed, KeyOf(path).Outcome);
        Assert.All(await RestoreAsync(world, path), c => Assert.True(c.Passed, $"{c.Name}: {c.Detail}"));
    }

    [Fact]
    public void What_is_written_encrypted_is_not_what_is_written_open_and_a_key_that_the_source_lacks_fails_every_run()
    {
        using var open = Lived();
        using var secret = Lived("tarnholt-2026");
        static byte[] Pack(World w) => File.ReadAllBytes(Path.Combine(w.Folder, "stores", "quay-s2", "copies.pack"));
        Assert.Equal(open.Sets.Count(s => s.Kind == SetKind.Log), secret.Sets.Count(s => s.Kind == SetKind.Log));
        var first = Pack(open).AsSpan(0, 200).ToArray();
        Assert.True(Pack(secret).AsSpan().IndexOf(first) < 0);

        using var without = new World(Folder(), Small("tarnholt-2019"));
        without.Advance(Now);
        Assert.Empty(without.Sets);
        Assert.Contains(without.TakeChanges().OfType<WorldChange.RunChanged>(), c => c.Run.Note is { } n && n.Contains("key tarnholt-2019 is not on quay-h1", StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_flipped_bit_is_found_by_the_restore_that_reads_it()
    {
        using var world = Lived();
        var path = PathTo(world, Now - Duration.FromHours(2));
        world.Faults.DamageCopy(Sailings, path.Base.Set, path.Base.Store);
        var failed = await Assert.ThrowsAsync<DriverException>(() => RestoreAsync(world, path));
        Assert.Equal(DriverProblem.CopyDamaged, failed.Problem);
        Assert.Equal(path.Base.Set, failed.Copy!.Set);
        Assert.Contains(world.Sets.Single(s => s.Id == path.Base.Set).Copies, c => c.Store == path.Base.Store && c.State == CopyState.Damaged);
    }

    [Fact]
    public async Task A_link_cut_on_the_way_fails_the_fetch_instead_of_waiting()
    {
        using var world = Lived();
        var set = world.Sets.Where(s => s.Kind == SetKind.Full && s.Copies.Any(c => c.Store.Value == "hill-s1")).MaxBy(s => s.CoversTo)!;
        var driver = new StandInDriver(world);
        var instance = new InstanceSpec("aside", Sailings, new("quay-h4"), Run);
        await PassTimeUntilAsync(world, driver.ProvisionAsync(Call, instance, default));
        using var engaged = world.Engage("a test");
        var restore = driver.RestoreSetAsync(Call, instance, new SetCopy(set.Id, new("hill-s1")), default);
        var later = world.Now + Duration.FromSeconds(20);
        while (!world.Advance(later))
        {
            await world.WhenNobodyThinksAsync(TimeSpan.FromSeconds(5));
        }

        Assert.False(restore.IsCompleted);
        world.Faults.SetLinkDown(new("quayside"), new("hillhouse"), true);
        var failed = await Assert.ThrowsAsync<DriverException>(() => restore);
        Assert.Equal(DriverProblem.CopyUnreachable, failed.Problem);
    }

    [Fact]
    public async Task No_room_is_refused_and_a_discarded_instance_leaves_nothing()
    {
        using var world = Lived();
        var driver = new StandInDriver(world);
        var instance = new InstanceSpec("aside", Sailings, new("quay-h4"), Run);
        await PassTimeUntilAsync(world, driver.ProvisionAsync(Call, instance, default));
        await Assert.ThrowsAsync<DriverException>(() => driver.ProvisionAsync(new RunCall(Guid.NewGuid(), 1), instance with { Owner = Guid.NewGuid() }, default));
        await driver.DiscardAsync(Call, instance, default);
        Assert.False(Directory.Exists(Path.Combine(world.Folder, "instances", "quay-h4", "aside")));
        await driver.DiscardAsync(Call, instance, default);
    }

    [Fact]
    public async Task A_call_with_an_old_fence_is_refused_also_while_it_is_under_way()
    {
        using var world = Lived();
        var driver = new StandInDriver(world);
        var instance = new InstanceSpec("aside", Sailings, new("quay-h4"), Run);
        var set = world.Sets.Where(s => s.Kind == SetKind.Full && s.Copies.Any(c => c.Store.Value == "quay-s2")).MaxBy(s => s.CoversTo)!;
        await PassTimeUntilAsync(world, driver.ProvisionAsync(Call, instance, default));
        var under = driver.RestoreSetAsync(Call, instance, new SetCopy(set.Id, new("quay-s2")), default);
        Assert.Equal(Moved.Nothing, await driver.ProvisionAsync(Call with { Fence = 2 }, instance, default));
        await PassTimeUntilAsync(world, under);
        Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(() => under)).Problem);
        foreach (var old in new Func<Task>[] { () => driver.ReleaseAsync(Call, instance, default), () => driver.DiscardAsync(Call, instance, default), () => driver.OpenAsync(Call, instance, default) })
        {
            Assert.Equal(DriverProblem.Stale, (await Assert.ThrowsAsync<DriverException>(old)).Problem);
        }

        // What the old call had begun is nowhere: the newer one does it whole, and asked again finds it done.
        var restore = driver.RestoreSetAsync(Call with { Fence = 2 }, instance, new SetCopy(set.Id, new("quay-s2")), default);
        await PassTimeUntilAsync(world, restore);
        var moved = await restore;
        Assert.True(moved is { Bytes: > 0, Seconds: > 0 });
        Assert.Equal(set.CoversTo, moved.Reached);
        Assert.Equal(set.ToPosition, moved.Position);
        Assert.Equal((0, 0L), (await driver.RestoreSetAsync(Call with { Fence = 3 }, instance, new SetCopy(set.Id, new("quay-s2")), default)) is var again ? (again.Seconds, again.Bytes) : default);
    }

    [Fact]
    public void A_full_store_refuses_and_the_log_it_refused_is_in_the_next_backup()
    {
        using var world = Lived();
        var before = world.Sets.Select(s => s.Id).ToHashSet();
        world.Faults.SetStoreFull(new("quay-s2"), true);
        world.Advance(world.Now + Duration.FromMinutes(30));
        Assert.All(world.Sets, s => Assert.Contains(s.Id, before));
        world.Faults.SetStoreFull(new("quay-s2"), false);
        world.Advance(world.Now + Duration.FromMinutes(10));
        var logs = world.Sets.Where(s => s.Kind == SetKind.Log).OrderBy(s => s.CoversTo).ToArray();
        Assert.All(logs.Zip(logs.Skip(1)), p => Assert.Equal(p.First.ToPosition, p.Second.FromPosition));
    }

    [Fact]
    public void A_world_goes_on_where_it_stopped_as_if_nothing_had_been()
    {
        using var straight = Lived();
        using var first = Lived();
        var halfway = Now + Duration.FromHours(6) + Duration.FromSeconds(30);
        first.Advance(halfway);
        using var second = Live(first);
        straight.Advance(halfway + Duration.FromHours(6));
        second.Advance(halfway + Duration.FromHours(6));
        Assert.Equal(
            straight.Sets.Where(s => s.Kind == SetKind.Log).Max(s => s.ToPosition),
            second.Sets.Where(s => s.Kind == SetKind.Log).Max(s => s.ToPosition));
        Assert.Equal(straight.Sets.Count, second.Sets.Count);
    }

    [Fact]
    public void Lost_log_makes_a_hole_until_the_next_base()
    {
        using var world = Lived();
        world.Advance(world.Now + Duration.FromMinutes(2));
        world.Faults.DropLog(Sailings);
        world.Advance(world.Now + Duration.FromHours(1));
        var subject = Subject(world);
        Assert.True(Evaluator.Evaluate(subject, Loss.None, world.Now).ExposureSeconds > 3000);
        world.Advance(world.Now + Duration.FromDays(1));
        subject = Subject(world);
        Assert.True(Evaluator.Evaluate(subject, Loss.None, world.Now).ExposureSeconds < 600);
        Assert.Contains(CoverExplainer.Gaps(subject, Loss.None, world.Now, world.Now - Duration.FromDays(2)), g => g.Reasons.Any(r => r.Contains("is in no set", StringComparison.Ordinal)));
    }
}
