using CsCheck;
using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>What must hold of the timetable for any fleet and any plan.</summary>
public class TimetableProperties
{
    private sealed class Runs : IPredictionSink
    {
        public List<PredictedRun> All { get; } = [];

        public void Add(in PredictedRun run) => All.Add(run);

        public void AddCopy(int series, long captured, int copier, long at)
        {
            // Nothing here copies later.
        }
    }

    /// <summary>Databases of some sizes on two hosts with few slots, each with a full at a minute of its own.</summary>
    private static readonly Gen<(FleetModel Fleet, Plan Plan)> Nights =
        from sizes in Gen.Double[0.5e9, 400e9].Array[1, 9]
        from minutes in Gen.Int[0, 90].Array[9]
        from hosts in Gen.Int[0, 1].Array[9]
        from hostSlots in Gen.Int[1, 4]
        from storeSlots in Gen.Int[1, 6]
        from copied in Gen.Bool
        from compression in Gen.Enum<Compression>()
        let bare = Harbour(sizes.Length, slots: hostSlots)
        let fleet = bare.Changed(
            (d, i) => d with { SizeBytes = (long)sizes[i], Host = hosts[i] == 0 ? new Id<Host>("host") : new("spare") },
            s => s.Id == Near ? s with { Slots = storeSlots } : s)
        let full = Task(TaskKind.Full, "daily 01:00") with
        {
            Compression = compression,
            CopyTo = copied ? [Far] : [],
            Offsets = bare.Databases.Select((d, i) => KeyValuePair.Create(d.Id.Value, Duration.FromMinutes(minutes[i]))).ToDictionary(),
        }
        select (fleet, Plan(full));

    [Fact]
    public void A_night_of_fulls_goes_as_the_naive_simulation_says() => Nights.Sample(
        night =>
        {
            var (fleet, plan) = (night.Fleet.WithPlans([night.Plan]), night.Plan);
            var series = Series.Of(fleet);
            var (sink, from) = (new Runs(), Instant.FromUtc(2026, 3, 2, 22, 0));
            Prediction.Run(new PredictionInput { Fleet = fleet, Series = series, From = from, To = from + Duration.FromHours(22) }, sink);
            var task = plan.Tasks[0];
            var jobs = sink.All.Select(r =>
            {
                var d = series[r.Series].Database;
                var (host, stored) = (fleet.Hosts[d.Host], Math.Max(1024, DatabaseLoad.Stated(d, from).SizeAt(r.Started) * task.Compression.Ratio()));
                return new NaivePrediction.Job(
                    r.Series, r.Due, host, fleet.Stores[Near], [.. task.CopyTo.Select(c => fleet.Stores[c])], stored, RunPace.Cap(host, fleet.Engines[d.Engine], task, stored, 0));
            }).OrderBy(j => j.Due).ThenBy(j => j.Number).ToArray();
            NaivePrediction.Run(fleet, jobs);
            foreach (var job in jobs)
            {
                var run = sink.All.Single(r => r.Series == job.Number);

                // Both count whole milliseconds, so they agree to the last.
                Assert.Equal(job.Started, run.Started);
                Assert.Equal(job.Available, run.Available);
                Assert.Equal(job.Ended, run.Ended);
            }

            return sink.All.Count == fleet.Databases.Count;
        },
        iter: 300);

    [Fact]
    public void No_flow_could_be_faster_without_its_share_and_none_is_faster_than_it() => Gen.Select(
        Gen.Double[10, 1000].Array[2, 5], Gen.Select(Gen.Int[0, 4].Array[1, 3], Gen.Double[5, 2000], Gen.Double[1, 5000]).Array[1, 8]).Sample(
        (capacities, flows) =>
        {
            var network = new FairShare();
            var numbers = capacities.Select((c, i) => network.SetCapacity($"r{i}", c)).ToArray();
            var uses = flows.Select(f => f.Item1.Select(u => u % capacities.Length).Distinct().ToArray()).ToArray();
            var moved = new double[capacities.Length];
            network.Moved = (r, bytes, _, _) => moved[r] += bytes;
            var ended = new double[flows.Length];
            var now = 0.0;
            for (var i = 0; i < flows.Length; i++)
            {
                var flow = i;
                network.Start(uses[i].Select(u => numbers[u]), flows[i].Item3, flows[i].Item2, () => ended[flow] = now);
            }

            // The first to be done is done when the slowest of its shares says so.
            var rates = flows.Select((f, i) => Math.Min(f.Item2, uses[i].Min(u => capacities[u] / uses.Count(o => o.Contains(u))))).ToArray();
            var first = flows.Select((f, i) => f.Item3 / rates[i] * 1000).Min();
            Assert.Equal(first, network.NextDone(), first * 1e-9);
            while (!double.IsPositiveInfinity(network.NextDone()))
            {
                now = Math.Ceiling(network.NextDone());
                network.Advance(now);
            }

            for (var i = 0; i < flows.Length; i++)
            {
                // Alone it takes at least this long; sharing can only make it longer, and at worst all go one after another.
                var alone = flows[i].Item3 / Math.Min(flows[i].Item2, uses[i].Min(u => capacities[u])) * 1000;
                Assert.InRange(ended[i], alone - 1, flows.Select((f, k) => f.Item3 / Math.Min(f.Item2, uses[k].Min(u => capacities[u] / flows.Length)) * 1000).Sum() + flows.Length);
            }

            for (var r = 0; r < capacities.Length; r++)
            {
                var through = flows.Where((_, i) => uses[i].Contains(r)).Sum(f => f.Item3);

                // A flow that would be done within half a millisecond is: of each as much as it moves in that.
                Assert.InRange(moved[r], through - 1e-3 - (0.0005 * flows.Sum(f => f.Item2)), through * 1.01 + 5);
            }
        },
        iter: 500);

    [Fact]
    public void A_proposal_never_breaks_an_objective_nor_misses_more_windows_and_says_what_it_does() => Gen.Select(
        Gen.Double[20e9, 300e9].Array[2, 6], Gen.Int[1, 3], Gen.Int[20, 240], Gen.Int[10, 60], Gen.Int[600, 4000]).Sample(
        (sizes, slots, window, every, rpo) =>
        {
            var bare = Harbour(sizes.Length, slots: slots, rpo: rpo);
            var plan = Plan(
                Task(TaskKind.Full, "daily 01:00") with { Window = Duration.FromMinutes(window) },
                Task(TaskKind.Log, $"every {every} minutes"));
            var fleet = bare.Changed((d, i) => d with { SizeBytes = (long)sizes[i] }).WithPlans([plan]);
            var question = new DesignQuestion { Fleet = fleet, Series = Series.Of(fleet), Databases = fleet.Databases, From = Monday };
            var proposal = Proposal.For(question);
            Assert.True(proposal.After.WindowsMissed <= proposal.Before.WindowsMissed);
            Assert.All(proposal.Moves, m => Assert.InRange(m.To, Duration.Zero, Duration.FromDays(7)));
            var moved = fleet.WithPlans(Proposal.Accept(fleet.Plans, proposal.Moves));
            var (before, after) = (Proposal.MeasureOf(question), Proposal.MeasureOf(question with { Fleet = moved, Series = Series.Of(moved) }));
            Assert.Equal(proposal.Before, before.Crowd);
            Assert.Equal(proposal.Moves.Count == 0 ? before.Crowd : proposal.After, after.Crowd);
            Assert.Empty(after.Broken(before));

            // Each taken alone is a plan too: what was not taken over stays where it was.
            foreach (var one in proposal.Moves.Take(2))
            {
                var task = Proposal.Accept(fleet.Plans, [one])[0].Task(one.Task)!;
                Assert.Equal([KeyValuePair.Create(one.Database.Value, one.To)], task.Offsets);
            }
        },
        iter: 25);

    private static readonly Gen<DatabaseLoad> Loads =
        from size in Gen.Double[1e9, 1e12]
        from growth in Gen.Double[0, 5e9]
        from change in Gen.Double[1e6, 5e10]
        from log in Gen.Double[100, 1e7]
        from hours in Gen.Double[0, 4].Array[24]
        from even in Gen.Bool
        select new DatabaseLoad(Monday, size, growth, change, log, even ? [] : hours, true);

    [Fact]
    public void Log_between_two_instants_is_that_of_its_parts_whatever_the_hours() => Gen.Select(Loads, Gen.Long[0, 20 * 86_400_000L], Gen.Long[0, 10 * 86_400_000L], Gen.Long[0, 10 * 86_400_000L]).Sample(
        (load, start, one, other) =>
        {
            var from = Monday.ToUnixTimeMilliseconds() + start;
            var whole = load.LogBetween(from, from + one + other);
            var parts = load.LogBetween(from, from + one) + load.LogBetween(from + one, from + one + other);
            Assert.Equal(whole, parts, Math.Max(1e-6, whole * 1e-9));
            Assert.True(whole >= 0);
        });

    [Fact]
    public void What_changed_grows_with_time_but_never_beyond_the_size() => Gen.Select(Loads, Gen.Long[0, 30 * 86_400_000L], Gen.Long[1, 30 * 86_400_000L]).Sample(
        (load, first, more) =>
        {
            var from = Monday.ToUnixTimeMilliseconds();
            var (a, b) = (load.ChangedBetween(from, from + first), load.ChangedBetween(from, from + first + more));
            Assert.True(a <= b * (1 + 1e-9));
            Assert.True(b <= load.SizeAt(from + first + more));
            Assert.Equal(0, load.ChangedBetween(from, from));
        });

    [Fact]
    public void A_pause_holds_back_what_it_is_for_and_the_first_free_instant_is_in_none() => Gen.Select(
        Gen.Select(Gen.Int[0, 100], Gen.Int[1, 60], Gen.Int[0, 3]).Array[0, 6], Gen.Int[0, 200]).Sample(
        (pauses, minute) =>
        {
            var fleet = Harbour(2).WithPlans([Usual()]);
            var series = Series.Of(fleet)[0];
            Blackout[] all =
            [
                .. pauses.Select(p => new Blackout(
                    Monday + Duration.FromMinutes(p.Item1),
                    Monday + Duration.FromMinutes(p.Item1 + p.Item2),
                    p.Item3 == 1 ? new Id<Plan>("p") : null,
                    p.Item3 == 2 ? new Id<Database>("d1") : null,
                    p.Item3 == 3 ? new Id<Host>("host") : null,
                    null,
                    "test")),
            ];
            var at = Monday + Duration.FromMinutes(minute);
            var free = Blackout.FirstFree(all, series, at)!.Value;

            // The second database's pauses are not for the first's runs.
            var own = all.Where(p => p.Database is null).ToArray();
            Assert.True(free >= at);
            Assert.DoesNotContain(own, p => p.From <= free && free < p.To);
            for (var t = at; t < free; t += Duration.FromMinutes(1))
            {
                Assert.Contains(own, p => p.From <= t && t < p.To);
            }
        });

    private static TaskRun Run(RunState state, double seconds, double expected = 100, int attempts = 1) => new()
    {
        Id = Guid.NewGuid(),
        Plan = new("p"),
        Task = "log",
        Kind = TaskKind.Log,
        Database = new("d0"),
        Due = Monday,
        State = state,
        Started = Monday,
        Ended = state is RunState.Running or RunState.Waiting ? null : Monday + Duration.FromSeconds(seconds),
        Attempts = attempts,
        ExpectedSeconds = expected,
    };

    [Fact]
    public void Failures_and_spread_are_learned_from_runs_that_are_over_and_from_enough_of_them()
    {
        Assert.Null(Chances.LearnedFrom(Enumerable.Repeat(Run(RunState.Done, 100), 49)));
        var (share, spread) = Chances.LearnedFrom([.. Enumerable.Repeat(Run(RunState.Done, 100), 90), .. Enumerable.Repeat(Run(RunState.Failed, 5, attempts: 2), 5), Run(RunState.Running, 0)])!.Value;
        Assert.Equal(0.1, share, 1e-9);
        Assert.Equal(0, spread);

        // Half as long and twice as long: the logarithm of the ratio is ±ln 2, its deviation a little above that for few runs.
        var (_, wide) = Chances.LearnedFrom([.. Enumerable.Repeat(Run(RunState.Done, 50), 50), .. Enumerable.Repeat(Run(RunState.Done, 200), 50)])!.Value;
        Assert.Equal(Math.Log(2) * Math.Sqrt(100 / 99.0), wide, 1e-9);
    }

    [Theory]
    [InlineData(10, null, null)]
    [InlineData(1299, null, null)]
    [InlineData(1301, null, "it has been going for 21 min 41 s, alone it takes 1 min 40 s")]
    [InlineData(1299, 60.0, null)]
    [InlineData(1301, 60.0, "it has been going for 21 min 41 s, alone it takes 1 min 40 s")]
    [InlineData(3660, 60.0, "its window ended 1 min ago")]
    public void A_run_is_overdue_past_its_window_or_far_beyond_what_it_takes(double seconds, double? windowMinutes, string? said)
    {
        var task = Task(TaskKind.Log, "every 15 minutes") with { Window = windowMinutes is { } m ? Duration.FromMinutes(m) : null };
        var now = Monday + Duration.FromSeconds(seconds);
        Assert.Equal(said, Overdue.Of(Run(RunState.Running, 0), task, now));
        Assert.Null(Overdue.Of(Run(RunState.Done, seconds), task, now));
        Assert.Null(Overdue.Of(Run(RunState.Waiting, 0) with { Started = null }, task, now));
    }

    [Fact]
    public void What_exceeds_by_less_than_the_words_show_says_by_how_much()
    {
        Assert.Equal("20 min, 15 min is allowed", PlainDuration.Beyond(1200, 900));
        Assert.Equal("1 d 2 h, 12 min more than allowed", PlainDuration.Beyond((26 * 3600) + 720, 26 * 3600));
    }
}
