using System.Numerics;
using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The figures of drills: against the definition read plainly, and against everything tried on what is small enough.</summary>
public class DrillProperties
{
    private static readonly Gen<int> Seeds = Gen.Int[0, int.MaxValue - 1];

    private static IEnumerable<ReplicaSource> Known(ReplicaWorlds.World w) => w.Subject.Replicas.Where(r => r.At(w.At) is not null);

    /// <summary>Bytes of log between two instants, second by second where the hour changes.</summary>
    private static double Written(Database d, Instant from, Instant to)
    {
        var bytes = 0.0;
        for (var t = from; t < to;)
        {
            var hour = t.InUtc().Hour;
            var next = Instant.Min(to, t.InUtc().Date.At(new LocalTime(hour, 0)).InUtc().ToInstant() + Duration.FromHours(1));
            bytes += d.LogBytesPerSecond!.Value * (d.LogByHour.Count == 0 ? 1 : d.LogByHour[hour]) * (next - t).TotalSeconds;
            t = next;
        }

        return bytes;
    }

    [Fact]
    public void A_switchover_comes_to_what_the_definition_says() => ReplicaWorlds.Gen.OfThose(
        w => Known(w).Any(r => PlannedDrill.Switchover(w.Subject, r, w.At).Refused.Count == 0),
        w =>
        {
            foreach (var source in Known(w))
            {
                var (d, r, planned) = (w.Subject.Database, source.Replica, PlannedDrill.Switchover(w.Subject, source, w.At));
                var s = w.Stretches.Where(x => x.Replica == r.Id && x.From <= w.At).MaxBy(x => x.From)!;
                var received = Instant.Min(w.At, s.To) - s.ReceivedLag;
                var backlog = d.LogBytesPerSecond is null ? 0 : Written(d, received, w.At);
                var rate = r.ReceiveRateIn(w.Subject.Fleet);
                var refused = w.At > s.To || source.WhyItCannotFollow(w.At) is not null || (rate == 0 && backlog > 0) || r.TakesOver == TakesOver.Never || w.At < r.Since || w.At >= r.Until;
                Assert.Equal(refused, planned.Refused.Count > 0);
                if (refused)
                {
                    Assert.Equal((null, null, null, null), (planned.LostSeconds, planned.WriteStopSeconds, planned.ServiceSeconds, planned.Approval));
                    continue;
                }

                var pending = Math.Max(s.PendingBytes, d.LogBytesPerSecond is null ? 0 : Written(d, received - Duration.FromSeconds(r.DelaySeconds), received));
                var stop = Math.Max(backlog == 0 ? 0 : backlog / rate, (pending + backlog) / r.ApplyRateIn(w.Subject.Fleet)) + r.PromoteSeconds + d.CheckSeconds + d.RedirectSeconds;
                Assert.Equal(stop, planned.WriteStopSeconds!.Value, Math.Max(1e-6, stop * 1e-9));
                Assert.Equal((0.0, 0.0, false), (planned.LostSeconds, planned.LostBytes, planned.Approval));
            }
        },
        1500);

    [Fact]
    public void A_forced_failover_is_the_way_back_by_that_replica_and_says_what_was_not_received() => ReplicaWorlds.Gen.OfThose(
        w => Known(w).Any(r => PlannedDrill.Forced(w.Subject, r, w.At, Loss.Of(w.Subject.Database.Host)).Refused.Count == 0),
        w =>
        {
            var loss = Loss.Of(w.Subject.Database.Host);
            foreach (var source in Known(w))
            {
                var planned = PlannedDrill.Forced(w.Subject, source, w.At, loss);
                var adds = NaiveReplicas.Interval(w.Subject, source.Replica, w.Stretches, loss, w.At) is not null;
                Assert.Equal(!adds || source.WhyItCannotFollow(w.At) is not null, planned.Refused.Count > 0);
                if (planned.Refused.Count > 0)
                {
                    continue;
                }

                var way = WayFinder.Find(w.Subject, new PathQuestion { Target = w.At, At = w.At, Loss = loss, Choice = new(Replica: source.Replica.Id) }).Best!;
                var received = source.At(w.At)!.Value.ReceivedTo;
                Assert.Equal((way.ServiceSeconds, (w.At - received).TotalSeconds, received < w.At), (planned.ServiceSeconds, planned.LostSeconds, planned.Approval));
                Assert.Equal(w.Subject.Database.LogBytesPerSecond is null, planned.LostBytes is null);
                Assert.True(planned.LostBytes is not { } bytes || Math.Abs(bytes - Written(w.Subject.Database, received, w.At)) < 1);
            }
        },
        1500);

    [Fact]
    public void An_automatic_one_is_held_only_where_the_replica_would_take_over_by_itself_and_loses_nothing() => ReplicaWorlds.Gen.OfThose(
        w => Known(w).Any(),
        w =>
        {
            var (loss, byItself) = (Loss.Of(w.Subject.Database.Host), Voters.WhoTakesOverByItself(w.Subject, Loss.Of(w.Subject.Database.Host), w.At));
            foreach (var source in Known(w))
            {
                var (planned, forced) = (PlannedDrill.Automatic(w.Subject, source, w.At), PlannedDrill.Forced(w.Subject, source, w.At, loss));
                Assert.Equal(!ReferenceEquals(byItself, source) || forced.Refused.Count > 0, planned.Refused.Count > 0);
                if (planned.Refused.Count == 0)
                {
                    Assert.Equal((0.0, false, forced.ServiceSeconds), (planned.LostSeconds, planned.Approval, planned.ServiceSeconds));
                }
            }
        },
        3000);

    [Fact]
    public void A_runbook_turns_back_until_roles_change_asks_a_second_person_where_something_is_lost_and_goes_home_only_if_decided()
    {
        var subject = Given(Fleets.With("""{"id":"r","database":"d","host":"far","mode":"async","promoteSeconds":20}"""), []);
        var replica = subject.Replicas[0].Replica;
        RunPlan Runbook(DrillKind kind, DrillEnding ending, double lost, string? overridden = null) => DrillRunbook.Of(
            subject, new(kind, ending, replica, new("far"), "d-near", new([], lost, null, 60, 60, lost > 0), ByHand: true, null, overridden), k => k == "check" ? 7 : null);
        foreach (var (kind, ending) in new[] { (DrillKind.Switchover, DrillEnding.Home), (DrillKind.Forced, DrillEnding.Keep), (DrillKind.Automatic, DrillEnding.Part) })
        {
            var plan = Runbook(kind, ending, kind == DrillKind.Forced ? 5 : 0);
            Assert.All(plan.Steps.Skip(1), s => Assert.NotEmpty(s.After));
            Assert.All(plan.Steps, s => Assert.NotEqual("", s.Owner));
            Assert.Equal(kind == DrillKind.Forced, plan.Steps.Any(s => s.NeedsApproval));
            Assert.Equal(kind == DrillKind.Automatic ? "stop" : "promote", plan.Steps.First(s => s.NoWayBack).Kind);
            Assert.Equal(ending != DrillEnding.Part, plan.Steps.Any(s => s.Kind == "follow"));
            Assert.Equal(("learned", 7.0), (plan.Steps.First(s => s.Kind == "check").ExpectedFrom, plan.Steps.First(s => s.Kind == "check").ExpectedSeconds));
            var home = plan.Steps.FirstOrDefault(s => s.Kind == "home");
            Assert.Equal(ending == DrillEnding.Home, home is not null);
            Assert.All(plan.Steps.Where(s => home is not null && s.Number > home.Number && s.Kind is not ("base" or "end")), s => Assert.Equal(new Step.Guard(home!.Number, DrillRunbook.GoHome), s.Only));
        }

        Assert.True(Runbook(DrillKind.Switchover, DrillEnding.Keep, 0, "settings (time zones differ), because both are UTC").Steps[0].NeedsApproval);
        Assert.Throws<ArgumentException>(() => Runbook(DrillKind.SiteLoss, DrillEnding.Keep, 0));
    }

    [Fact]
    public void What_stands_in_the_way_is_seen_before()
    {
        var fleet = Fleets.With("""{"id":"r","database":"d","host":"far","mode":"async","promoteSeconds":20}""");
        var hosts = fleet.HostList.Select(h => h with { TimeZone = h.Id.Value, WriteBytesPerSecond = h.Id.Value == "far" ? 100 : 200 });
        var at = Fleets.At;
        var changed = new FleetModel(fleet.SiteList, fleet.Links, fleet.ArrayList, [.. hosts], fleet.StoreList, fleet.EngineList, fleet.ObjectiveList, fleet.ServiceList, fleet.Databases, fleet.ReplicaList, fleet.GroupList);
        var subject = Given(changed, []).With([new LagStretch(new("r"), 1, at - Duration.FromHours(1), at, Duration.FromSeconds(3), Duration.FromSeconds(4), Duration.Zero, 10, null)]);
        var planned = PlannedDrill.Switchover(subject, subject.Replicas[0], at);
        var found = DrillPrechecks.Of(subject, subject.Replicas[0], DrillKind.Switchover, planned, at).ToDictionary(p => p.Name);
        Assert.Equal((PrecheckOutcome.Failed, PrecheckOutcome.Failed, PrecheckOutcome.Warned, PrecheckOutcome.Warned, PrecheckOutcome.Passed), (found["settings"].Outcome, found["backup"].Outcome, found["capacity"].Outcome, found["its own backups"].Outcome, found["in step"].Outcome));
        Assert.Contains("time zone near on near", found["settings"].Detail, StringComparison.Ordinal);
        Assert.DoesNotContain("can be done", found.Keys);
    }

    [Fact]
    public void Every_reason_is_given()
    {
        var subject = Given(Fleets.With("""{"id":"r","database":"d","host":"far","mode":"async","takesOver":"never","since":"2026-03-02T09:00:00Z"}"""), []);
        var planned = PlannedDrill.Switchover(subject, subject.Replicas[0], Instant.FromUtc(2026, 3, 2, 8, 0));
        Assert.Equal(["r begins at 2026-03-02T09:00:00Z", "r is only read from", "nothing is known of r up to 2026-03-02T08:00:00Z"], planned.Refused);
        Assert.Throws<ArgumentException>(() => PlannedDrill.Forced(subject, subject.Replicas[0], Instant.FromUtc(2026, 3, 2, 8, 0), Loss.Hostile));
    }

    [Fact]
    public void What_was_seen_says_when_nobody_could_write_and_when_both_sides_could()
    {
        DrillSpan Span(int from, int to, bool here, bool there, bool clients) => new(Fleets.At + Duration.FromSeconds(from), Fleets.At + Duration.FromSeconds(to), here, there, clients);
        var trail = new DrillTrail([Span(0, 9, true, false, true), Span(10, 20, false, false, false), Span(21, 30, false, false, true), Span(31, 50, false, true, false), Span(51, 53, true, true, true), Span(54, 60, false, false, false)]);
        Assert.Equal([(Fleets.At + Duration.FromSeconds(10), 21.0), (Fleets.At + Duration.FromSeconds(54), 6.0)], trail.Stops.Select(s => (s.From, s.Seconds)));
        Assert.Equal((11 + 20 + 6, 3), ((int)trail.WithoutServiceSeconds, trail.BothWritable));
        Assert.Empty(new DrillTrail([]).Stops);
    }

    // ---- The runbook in time.
    private static RunPlan RandomPlan(Random r, int most, string[] owners)
    {
        var steps = new List<Step>();
        for (var n = 1; n <= r.Next(1, most); n++)
        {
            steps.Add(new Step
            {
                Number = n * 3,
                Kind = "k",
                Title = $"step {n}",
                Owner = owners[r.Next(owners.Length)],
                After = [.. steps.Where(_ => r.Next(4) == 0).Select(s => s.Number)],
                ExpectedSeconds = r.Next(5) == 0 ? 0 : r.Next(1, 20),
            });
        }

        return new RunPlan(steps);
    }

    /// <summary>The longest of all chains of steps that end with one, every chain tried.</summary>
    private static double Longest(RunPlan plan, int number) => (plan[number].ExpectedSeconds ?? 0) + plan[number].After.Select(a => Longest(plan, a)).DefaultIfEmpty(0).Max();

    private static RunPlan Longer(RunPlan plan, int number, double by) => new([.. plan.Steps.Select(s => s.Number == number ? s with { ExpectedSeconds = s.ExpectedSeconds + by } : s)]);

    [Fact]
    public void Ends_are_those_of_the_longest_chain_and_a_step_may_end_later_by_its_slack_and_no_more() => Seeds.Sample(
        seed =>
        {
            var plan = RandomPlan(new Random(seed), 10, [Step.Product]);
            var schedule = Schedule.Of(plan);
            Assert.All(plan.Steps, s => Assert.Equal(Longest(plan, s.Number), schedule.EndOf(s.Number), 9));
            Assert.Equal(schedule.Seconds, plan.ExpectedSeconds, 9);
            foreach (var s in plan.Steps)
            {
                var slack = schedule.SlackOf(s.Number);
                Assert.Equal(schedule.Seconds, Schedule.Of(Longer(plan, s.Number, slack)).Seconds, 9);
                Assert.Equal(schedule.Seconds + 1, Schedule.Of(Longer(plan, s.Number, slack + 1)).Seconds, 9);
            }
        },
        iter: 2000);

    [Fact]
    public void An_owner_does_so_many_at_once_none_idle_the_least_slack_first() => Seeds.Sample(
        seed =>
        {
            var r = new Random(seed);
            var plan = RandomPlan(r, 14, [Step.Product, "operate", "approve"]);
            var people = new Dictionary<string, int> { ["operate"] = r.Next(1, 4), ["approve"] = 1 };
            var (schedule, alone) = (Schedule.Of(plan, people), Schedule.Of(plan));
            foreach (var s in plan.Steps)
            {
                var (start, ready) = (schedule.StartOf(s.Number), s.After.Select(schedule.EndOf).DefaultIfEmpty(0).Max());
                Assert.True(start >= ready);
                if (!people.TryGetValue(s.Owner, out var n))
                {
                    Assert.Equal(ready, start);
                    continue;
                }

                Step[] same = [.. plan.Steps.Where(o => o.Owner == s.Owner && o != s && o.ExpectedSeconds > 0)];
                Assert.True(same.Count(o => schedule.StartOf(o.Number) <= start && start < schedule.EndOf(o.Number)) < n || s.ExpectedSeconds == 0);
                if (start > ready)
                {
                    // While it waited all were busy, with what was begun before it could begin, or has no more slack.
                    var busy = same.Where(o => schedule.StartOf(o.Number) < start && schedule.EndOf(o.Number) > ready).ToArray();
                    Assert.True(busy.Sum(o => Math.Min(start, schedule.EndOf(o.Number)) - Math.Max(ready, schedule.StartOf(o.Number))) >= (n * (start - ready)) - 1e-9);
                    Assert.All(busy.Where(o => schedule.StartOf(o.Number) > ready), o => Assert.True(alone.SlackOf(o.Number) <= alone.SlackOf(s.Number)));
                }
            }
        },
        iter: 3000);

    [Fact]
    public void The_critical_path_leads_from_the_start_to_the_end_without_a_gap() => Seeds.Sample(
        seed =>
        {
            var plan = RandomPlan(new Random(seed), 14, [Step.Product, "operate"]);
            var schedule = Schedule.Of(plan, new Dictionary<string, int> { ["operate"] = 1 });
            Assert.Equal(0, schedule.StartOf(schedule.CriticalPath[0]));
            Assert.Equal(schedule.Seconds, schedule.EndOf(schedule.CriticalPath[^1]));
            Assert.All(schedule.CriticalPath.Zip(schedule.CriticalPath.Skip(1)), p => Assert.Equal(schedule.EndOf(p.First), schedule.StartOf(p.Second)));
            Assert.All(schedule.CriticalPath, n => Assert.Equal(0, schedule.SlackOf(n)));
        },
        iter: 2000);

    [Fact]
    public void An_owner_who_is_nobody_is_refused() =>
        Assert.Throws<ArgumentOutOfRangeException>(() => Schedule.Of(new RunPlan([new Step { Number = 1, Kind = "k", Title = "t", Owner = "operate" }]), new Dictionary<string, int> { ["operate"] = 0 }));

    // ---- The calendar.
    private sealed record Small(ProofCalendar.Problem Problem, int[] InAll, int[,] InSite, int[,] OnHost);

    private static Small RandomCalendar(Random r)
    {
        var (days, hosts, sites) = (r.Next(1, 4), r.Next(1, 4), r.Next(1, 3));
        int[] siteOf = [.. Enumerable.Range(0, hosts).Select(_ => r.Next(sites))];
        var (inAll, inSite, onHost) = (new int[days], new int[sites, days], new int[hosts, days]);
        for (var d = 0; d < days; d++)
        {
            inAll[d] = r.Next(0, 4);
            for (var s = 0; s < sites; s++)
            {
                inSite[s, d] = r.Next(0, 3);
            }

            for (var h = 0; h < hosts; h++)
            {
                onHost[h, d] = r.Next(0, 3);
            }
        }

        ProofCalendar.Proof[] proofs = [.. Enumerable.Range(0, r.Next(1, 6)).Select(_ => new ProofCalendar.Proof(r.Next(hosts), r.Next(days + 1)))];
        return new(new(days, proofs, siteOf, d => inAll[d], (s, d) => inSite[s, d], (h, d) => onHost[h, d]), inAll, inSite, onHost);
    }

    /// <summary>Every calendar there is: the most kept, and of those the least sum of days.</summary>
    private static (int Kept, int Sum) Best(Small c, int proof, int[] dayOf)
    {
        var p = c.Problem;
        if (proof == p.Proofs.Count)
        {
            return Fits(c, dayOf) ? (dayOf.Count(d => d >= 0), dayOf.Where(d => d >= 0).Sum()) : (-1, 0);
        }

        var best = (Kept: -1, Sum: 0);
        for (var d = -1; d <= Math.Min(p.Proofs[proof].DueDay, p.Days - 1); d++)
        {
            dayOf[proof] = d;
            var found = Best(c, proof + 1, dayOf);
            best = found.Kept > best.Kept || (found.Kept == best.Kept && found.Sum < best.Sum) ? found : best;
        }

        return best;
    }

    private static bool Fits(Small c, int[] dayOf)
    {
        var p = c.Problem;
        return Enumerable.Range(0, p.Days).All(d =>
            dayOf.Count(x => x == d) <= c.InAll[d]
            && Enumerable.Range(0, p.SiteOfHost.Max() + 1).All(s => Placed(d, i => p.SiteOfHost[p.Proofs[i].Host] == s) <= c.InSite[s, d])
            && Enumerable.Range(0, p.SiteOfHost.Count).All(h => Placed(d, i => p.Proofs[i].Host == h) <= c.OnHost[h, d]));

        int Placed(int day, Func<int, bool> of) => Enumerable.Range(0, dayOf.Length).Count(i => dayOf[i] == day && of(i));
    }

    [Fact]
    public void A_calendar_keeps_as_many_as_any_and_of_those_that_do_its_days_are_the_earliest() => Seeds.Select(s => RandomCalendar(new Random(s))).Sample(
        c =>
        {
            var calendar = ProofCalendar.Of(c.Problem);
            int[] dayOf = [.. Enumerable.Range(0, c.Problem.Proofs.Count).Select(i => calendar.DayOf(i) ?? -1)];
            Assert.True(Fits(c, dayOf));
            Assert.All(dayOf.Zip(c.Problem.Proofs), p => Assert.True(p.First <= p.Second.DueDay));
            Assert.Equal(Best(c, 0, new int[dayOf.Length]), (calendar.Kept, dayOf.Where(d => d >= 0).Sum()));
            Assert.Equal(calendar.Kept < dayOf.Length, calendar.Bounds.Count > 0);
        },
        iter: 4000);

    [Fact]
    public void What_a_bound_would_have_to_be_is_enough_and_one_less_is_not() => Seeds.Select(s => RandomCalendar(new Random(s))).OfThose(
        c => ProofCalendar.Of(c.Problem) is var x && x.Bounds.Any(b => x.WouldNeed(b) is not null),
        c =>
        {
            var calendar = ProofCalendar.Of(c.Problem);
            foreach (var bound in calendar.Bounds)
            {
                if (calendar.WouldNeed(bound) is not { } need)
                {
                    continue;
                }

                Assert.Equal(c.Problem.Proofs.Count, KeptWith(need));
                Assert.True(KeptWith(need - 1) < c.Problem.Proofs.Count);

                // On the days on which it takes any, so many more each.
                int KeptWith(int n)
                {
                    return ProofCalendar.Of(c.Problem with
                    {
                        InAll = d => bound is { Host: null, Site: null } ? More(c.InAll[d]) : c.InAll[d],
                        InSite = (s, d) => bound.Site == s ? More(c.InSite[s, d]) : c.InSite[s, d],
                        OnHost = (h, d) => bound.Host == h ? More(c.OnHost[h, d]) : c.OnHost[h, d],
                    }).Kept;

                    int More(int takes) => takes == 0 ? 0 : takes + n - bound.Most;
                }
            }
        },
        2000);

    // ---- How many.
    /// <summary>P(at most x fail), counted: every way of drawing.</summary>
    private static (BigInteger Of, BigInteger All) Counted(int population, int failing, int drawn, int most)
    {
        var (of, all) = (BigInteger.Zero, BigInteger.Zero);
        for (var mask = 0; mask < 1 << population; mask++)
        {
            if (BitOperations.PopCount((uint)mask) == drawn)
            {
                all++;
                of += BitOperations.PopCount((uint)mask & ((1u << failing) - 1)) <= most ? 1 : 0;
            }
        }

        return (of, all);
    }

    private static readonly DecimalShare[] Shares = [.. new[] { "0.5", "0.95", "0.9", "0.25", "0.75", "0.2", "0.999", "0.3333" }.Select(t => DecimalShare.TryParse(t, out var s) ? s : throw new FormatException(t))];

    [Fact]
    public void At_most_so_many_fail_as_counting_every_draw_says()
    {
        for (var n = 1; n <= 9; n++)
        {
            for (var drawn = 0; drawn <= n; drawn++)
            {
                for (var failed = 0; failed <= drawn; failed++)
                {
                    foreach (var c in Shares)
                    {
                        var most = Enumerable.Range(0, n + 1).Last(d => Counted(n, d, drawn, failed) is var (of, all) && of * c.Under > c.Rest.Over * all);
                        Assert.Equal(most, Confidence.AtMostFailing(n, drawn, failed, c));
                    }
                }
            }
        }
    }

    [Fact]
    public void So_many_are_needed_as_counting_every_draw_says()
    {
        for (var n = 1; n <= 10; n++)
        {
            foreach (var (c, p) in Shares.SelectMany(c => Shares, (c, p) => (c, p)))
            {
                var failing = (int)p.FloorOf(n) + 1;
                var needed = failing > n ? 0 : Enumerable.Range(0, n + 1).First(k => Counted(n, failing, k, 0) is var (of, all) && of * c.Under <= c.Rest.Over * all);
                Assert.Equal(needed, Confidence.Needed(n, c, p));
            }
        }
    }

    [Fact]
    public void Large_figures_agree_with_each_other_and_decimals_are_decimals()
    {
        Assert.True(DecimalShare.TryParse("0.95", out var c) & DecimalShare.TryParse("0.01", out var p));
        var needed = Confidence.Needed(10_000, c, p);
        Assert.True(Confidence.AtMostFailing(10_000, needed, 0, c) <= 100);
        Assert.True(Confidence.AtMostFailing(10_000, needed - 1, 0, c) > 100);

        // 0.29 of 100 are 29, though the nearest binary fraction is less than that.
        Assert.True(DecimalShare.TryParse("0.29", out var share));
        Assert.Equal(29, (int)share.FloorOf(100));
        Assert.True(Confidence.Needed(Confidence.MostPopulation, c, p) is > 290 and < 310);
        Assert.All((string[])["", ".", "-0.1", "1e-3", "0,5", "0.5.5", new string('1', 41)], t => Assert.False(DecimalShare.TryParse(t, out _)));
        Assert.Throws<ArgumentOutOfRangeException>(() => Confidence.AtMostFailing(10, 11, 0, c));
        Assert.Throws<ArgumentOutOfRangeException>(() => Confidence.AtMostFailing(10, 5, 6, c));
    }

    [Fact]
    public void A_draw_is_the_same_whatever_the_order_of_the_names_and_another_seed_draws_others()
    {
        string[] names = [.. Enumerable.Range(0, 200).Select(i => $"db{i}")];
        var drawn = Sample.Of(names, 20, 7);
        Assert.Equal(drawn, Sample.Of(names.Reverse(), 20, 7));
        Assert.NotEqual(drawn, Sample.Of(names, 20, 8));
        Assert.Equal(20, drawn.Distinct().Count());

        // Each is drawn about as often: 1000 draws of a tenth.
        var often = Enumerable.Range(0, 1000).SelectMany(s => Sample.Of(names, 20, (ulong)s)).CountBy(n => n).Select(g => g.Value).ToArray();
        Assert.True(often.Min() > 60 && often.Max() < 145, $"{often.Min()} to {often.Max()}");
    }

    // ---- A site is lost.
    [Fact]
    public void Nothing_comes_back_sooner_than_alone_and_what_is_alone_comes_back_as_its_way_says() => Seeds.Sample(
        seed =>
        {
            var r = new Random(seed);
            var fleet = Fleets.Site(r.Next(1, 8), r);
            var subjects = fleet.Databases.Select(d => RecoverySubject.Of(fleet, d, Fleets.Backups(d, r))).ToArray();
            var (plan, changes) = SiteLoss.Compared(subjects, fleet, new("home"), Fleets.At, r.Next(1, 3));
            Assert.Equal(fleet.Databases.Count, plan.Returns.Count);
            Assert.All(plan.Returns, x => Assert.True(x.ServiceSeconds >= x.AloneSeconds - 0.01, $"{x}"));
            Assert.Equal(plan.Returns.Where(x => x.Way is not null).Select(x => x.RtoSeconds), plan.Returns.Where(x => x.Way is not null).Select(x => x.RtoSeconds).Order());
            foreach (var host in plan.Returns.GroupBy(x => x.Way?.Host))
            {
                // No more at once than the host has slots, and nobody with a smaller RTO waits for one with a larger.
                Assert.All(host, x => Assert.True(host.Count(o => o != x && o.StartsSeconds <= x.StartsSeconds && o.ReadySeconds > x.StartsSeconds + 0.01) < SiteLoss.UnstatedSlots));
                Assert.All(host.SelectMany((x, i) => host.Skip(i + 1), (x, later) => (x, later)), p => Assert.True(p.x.StartsSeconds <= p.later.StartsSeconds || Decided(p.x) > p.later.StartsSeconds));
            }

            double Decided(SiteLoss.Return x) => fleet.DatabaseById[x.Database] is var d ? d.DetectSeconds + d.DecideSeconds : 0;

            Assert.Equal(2, changes.Count);
            foreach (var one in subjects)
            {
                var alone = SiteLoss.Of([one], fleet, new("home"), Fleets.At).Returns.Single();
                Assert.Equal(alone.AloneSeconds!.Value, alone.ServiceSeconds!.Value, 0.01);
            }
        },
        iter: 300);

    private static RecoverySubject Given(FleetModel fleet, IEnumerable<BackupSet> sets) => RecoverySubject.Of(fleet, fleet.Databases[0], new DatabaseCatalogue(fleet.Databases[0].Id, sets));

    /// <summary>Fleets of this page.</summary>
    private static class Fleets
    {
        public static readonly Instant At = Instant.FromUtc(2026, 3, 2, 8, 0);

        private static FleetModel Read(string databases, string more) => Formats.FleetFile.Read(System.Text.Encoding.UTF8.GetBytes($$"""
            {"format":"imbrek-fleet/1","sites":[{"id":"home"},{"id":"away"}],"links":[{"between":["home","away"],"bytesPerSecond":50000000}],
             "hosts":[{"id":"near","site":"home","writeBytesPerSecond":200000000},{"id":"far","site":"away","writeBytesPerSecond":200000000}],
             "stores":[{"id":"vault","site":"away","readBytesPerSecond":100000000,"writeBytesPerSecond":100000000}],
             "engines":[{"id":"e","provisionSeconds":10,"perSetSeconds":2,"restoreBytesPerSecond":150000000,"replayBytesPerSecond":90000000,"indexBytesPerSecond":90000000,"openSeconds":5}],
             "objectives":[{"id":"quick","rpoSeconds":900,"rtoSeconds":600,"against":["host"],"proofDays":30},{"id":"slow","rpoSeconds":900,"rtoSeconds":1800,"against":["host"],"proofDays":30}],
             "databases":[{{databases}}]{{more}}}
            """), "fleet.json") is var read && read.Value is { } fleet ? fleet : throw new FormatException(string.Join('\n', read.Faults));

        public static FleetModel With(string replica) => Read("""{"id":"d","engine":"e","host":"near","sizeBytes":1000}""", $",\"replicas\":[{replica}]");

        public static FleetModel Site(int databases, Random r) => Read(
            string.Join(',', Enumerable.Range(0, databases).Select(i =>
                $$"""{"id":"d{{i}}","engine":"e","host":"near","recoveryHosts":["far"],"objective":"{{(r.Next(2) == 0 ? "quick" : "slow")}}","sizeBytes":10000000000,"detectSeconds":60,"decideSeconds":{{r.Next(0, 3) * 30}},"checkSeconds":{{r.Next(0, 100)}},"redirectSeconds":20}""")),
            "");

        public static DatabaseCatalogue Backups(Database d, Random r) => new(d.Id, [
            new BackupSet
            {
                Id = new("full"),
                Database = d.Id,
                Kind = SetKind.Full,
                ToPosition = 10,
                CoversTo = At - Duration.FromHours(1),
                FinishedAt = At - Duration.FromHours(1),
                DataBytes = r.Next(1, 90) * 1_000_000_000L,
                Copies = [new BackupCopy(new("vault"), At - Duration.FromMinutes(30), null, null, r.Next(1, 90) * 500_000_000L, CopyState.Good)],
            },
        ]);
    }

    [Fact]
    public void A_drill_of_many_asks_people_once_waits_for_all_and_restores_as_many_at_once_as_a_host_has_slots()
    {
        static JointRunbook.Member Of(string d, string? by, string host = "h") => new(new(d), by is null ? null : new Id<Replica>(by), new(host), by is null ? 60 : 5, 100);
        JointRunbook.Member[] members = [Of("a", "ra"), Of("b", null), Of("c", "rc"), Of("d", null), Of("e", null), Of("f", null, "other")];
        var plan = JointRunbook.Of(new("site S", DrillKind.Forced, DrillEnding.Home, members, h => h.Value == "h" ? 2 : 1));
        Step One(string kind) => Assert.Single(plan.Steps, s => s.Kind == kind);
        Assert.Equal(2, plan.Steps.Count(s => s.Kind == "begin"));
        Assert.Equal(["tell", "send", "home", "send"], plan.Steps.Where(s => s.IsHold).Select(s => s.Kind));

        // Before anything is taken for lost all are ready and a second person has agreed; nothing is restored before.
        Assert.True(One("agree").NeedsApproval);
        Assert.Equal([plan.Steps.First(s => s.Kind == "tell").Number], One("agree").After);
        Assert.Equal([One("ready").Number], plan.Steps.First(s => s.Kind == "tell").After);
        Assert.Equal([One("agree").Number], One("go").After);
        Assert.Equal(plan.Steps.Where(s => s.Kind == "begin").Select(s => s.Number), One("ready").After);
        var restores = plan.Steps.Where(s => s.Kind == "restore").ToArray();
        Assert.All(restores, r => Assert.Contains(One("agree").Number, r.After));
        Assert.Equal([restores[0].Number], restores.Single(r => r.Subject == "e").After.Except([One("agree").Number]));
        Assert.Equal(restores.Select(r => r.Number), restores.Select(r => r.Number).Where(One("end").After.Contains));
        Assert.True(One("go").NoWayBack);

        // A home-coming that is not chosen is not waited for.
        var stays = Run.Of(plan);
        Assert.All(plan.Steps.Where(s => s.Kind == "back"), s => Assert.Equal(DrillRunbook.GoHome, s.Only!.Choice));
        Assert.NotNull(stays.Next(Instant.MinValue).Start);

        Assert.DoesNotContain(JointRunbook.Of(new("group G", DrillKind.Switchover, DrillEnding.Keep, [Of("a", "ra")], _ => 1)).Steps, s => s.NeedsApproval);
        Assert.Throws<ArgumentException>(() => JointRunbook.Of(new("nothing", DrillKind.Switchover, DrillEnding.Keep, [], _ => 1)));
        Assert.Throws<ArgumentException>(() => JointRunbook.Of(new("by itself", DrillKind.Automatic, DrillEnding.Keep, members, _ => 1)));

        // A restore test changes no roles: nobody is asked, and a host carries as many as it has slots.
        var test = JointRunbook.Of(new("group G", DrillKind.RestoreTest, DrillEnding.Keep, [Of("a", null), Of("b", null), Of("c", null)], _ => 2));
        Assert.Equal(["restore", "restore", "restore", "end"], test.Steps.Select(s => s.Kind));
        Assert.Equal((0d, 0d, 100d), (Schedule.Of(test).StartOf(1), Schedule.Of(test).StartOf(2), Schedule.Of(test).StartOf(3)));
        Assert.DoesNotContain(test.Steps, s => s.IsHold || s.NeedsApproval || s.NoWayBack);
        Assert.Throws<ArgumentException>(() => JointRunbook.Of(new("group G", DrillKind.RestoreTest, DrillEnding.Keep, members, _ => 1)));

        // Nobody helps: nobody sends clients over, but home again they do.
        Assert.Equal(["begin", "ready", "tell", "go", "end"], JointRunbook.Of(new("group G", DrillKind.Automatic, DrillEnding.Keep, [Of("a", "ra")], _ => 1)).Steps.Select(s => s.Kind));
        Assert.Equal(["begin", "ready", "tell", "go", "home", "stay", "back", "send", "sent", "end"], JointRunbook.Of(new("group G", DrillKind.Automatic, DrillEnding.Home, [Of("a", "ra")], _ => 1)).Steps.Select(s => s.Kind));
    }
}
