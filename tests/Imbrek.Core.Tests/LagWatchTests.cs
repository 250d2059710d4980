using CsCheck;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Replication;
using NodaTime;
using Xunit;
using static Imbrek.Core.Replication.LagWatch;

namespace Imbrek.Core.Tests;

/// <summary>Whatever a replica does between two looks, what is said of it is never too good.</summary>
public class LagWatchTests
{
    private static readonly Instant Start = Instant.FromUtc(2026, 3, 2, 0, 0);

    private static Instant At(double seconds) => Start + Duration.FromMilliseconds(Math.Round(seconds * 1000));

    private static Replica Replica(double delay = 0) => new()
    {
        Id = new("d0-west"),
        Database = new("d0"),
        Place = new ReplicaPlace.OnHost(new("spare")),
        Mode = ReplicaMode.Async,
        DelaySeconds = delay,
        WatchSeconds = 10,
        CutAfterSeconds = 20,
    };

    private static LagSample Sample(double at, double received, double applied, bool inStep = false, int branch = 1) => new(new("d0-west"), branch, At(at), At(received), At(applied), 5, null, inStep);

    /// <summary>All stretches that were ever the last, each as it was when the next began.</summary>
    private static List<LagStretch> Made(Replica replica, IEnumerable<LagSample> samples, Instant? branchStart = null)
    {
        var made = new Dictionary<Instant, LagStretch>();
        Watched? known = null;
        foreach (var s in samples)
        {
            known = Next(replica, branchStart ?? Instant.MinValue, known, s);
            if (known.Stretch is { } stretch)
            {
                made[stretch.From] = stretch;
            }
        }

        return [.. made.Values.OrderBy(s => s.From)];
    }

    /// <summary>What a replica really did: it goes on in jumps of its own, and is looked at in between.</summary>
    private static readonly Gen<(double[] Received, double[] Applied, double[] Looks, int Delay)> Truth =
        Gen.Select(Gen.Int[0, int.MaxValue - 1], Gen.Int[0, 2]).Select((seed, held) =>
        {
            var (r, delay) = (new Random(seed), held == 0 ? 60 : 0);
            double received = -100, applied = -200;
            var (got, done) = (new double[600], new double[600]);
            for (var second = 0; second < 600; second++)
            {
                var stuck = second % 200 is > 120 and < 160;
                received = stuck || r.Next(3) == 0 ? received : Math.Min(second, Math.Max(received, second - r.Next(0, 9)));
                applied = r.Next(3) == 0 ? applied : Math.Min(Math.Min(received, second - delay), Math.Max(applied, second - delay - r.Next(0, 20)));
                (got[second], done[second]) = (received, applied);
            }

            var looks = new List<double>();
            for (double at = r.Next(0, 10); at < 600; at += r.Next(20) == 0 ? r.Next(31, 90) : r.Next(1, 13))
            {
                looks.Add(at);
            }

            return (got, done, looks.ToArray(), delay);
        });

    [Theory]
    [InlineData(0, 0, false)]
    [InlineData(0.9, 4, false)]
    [InlineData(0.9, 3600, false)]
    [InlineData(0, 0, true)]
    public void A_span_in_which_nothing_changes_comes_to_the_same_as_each_of_its_looks(double received, double applied, bool inStep)
    {
        var replica = Replica(applied >= 3600 ? 3600 : 0);
        var (spans, known, kept) = (new[] { (0, 3600), (3610, 7200), (7200, 200_000), (200_050, 200_060) }, (Watched?)null, new List<LagStretch>());
        var looks = new List<LagSample>();
        foreach (var (from, to) in spans)
        {
            known = Steady(replica, Instant.MinValue, known, Seen(from), At(to), kept.Add);
            for (double at = from; at < to; at += replica.WatchSeconds)
            {
                looks.Add(Seen(at));
            }

            looks.Add(Seen(to));
        }

        Assert.Equal(
            Made(replica, looks).Select(s => s with { ReceivedPosition = null }),
            kept.Append(known!.Stretch!).GroupBy(s => s.From).Select(g => g.MaxBy(s => s.To)! with { ReceivedPosition = null }).OrderBy(s => s.From));

        LagSample Seen(double at) => Sample(at, at - received, at - applied, inStep);
    }

    [Fact]
    public void What_comes_and_goes_with_the_stages_of_a_shipped_replica_is_one_stretch_and_what_goes_beyond_them_is_not()
    {
        var shipped = Replica() with { Mode = ReplicaMode.Shipped, Stages = new(new(300, 5), new(300, 8), new(300, 20), null, null) };
        var samples = Enumerable.Range(0, 700).Select(i => i * 10.0).Select(at => Sample(at, Math.Floor(at / 300) * 300 - 310, Math.Floor(at / 300) * 300 - 600)).ToArray();
        var one = Assert.Single(Made(shipped, samples));
        Assert.Equal((623, 943), ((int)one.ReceivedLag.TotalSeconds, (int)one.AppliedLag.TotalSeconds));
        Assert.NotInRange(Made(shipped, [.. samples.Where(s => s.At < At(3000)), .. samples.Where(s => s.At >= At(3000)).Select(s => s with { ReceivedTo = At(2400), AppliedTo = At(2400) })]).Count, 0, 1);
    }

    [Fact]
    public void What_is_said_of_a_stretch_holds_at_each_of_its_instants() => Truth.Sample(
        t =>
        {
            var replica = Replica(t.Delay);
            var made = Made(replica, t.Looks.Select(at => Sample(at, t.Received[(int)at], t.Applied[(int)at])));
            Assert.NotEmpty(made);
            foreach (var s in made)
            {
                for (var second = (int)(s.From - Start).TotalSeconds; second <= (int)(s.To - Start).TotalSeconds; second++)
                {
                    var (received, applied) = (At(t.Received[second]), At(t.Applied[second]));
                    if (received < At(second) - s.ReceivedLag || applied < At(second) - s.AppliedLag || applied > At(second) - s.AppliedLeastLag)
                    {
                        Assert.Fail($"at {second} received {received} and applied {applied}, and it says {s}");
                    }
                }
            }

            // And it is a catalogue file without a fault: nothing overlaps, no lag is in the way of another.
            var rich = FormatMutations.Rich;
            var fleet = new FleetModel(rich.SiteList, rich.Links, rich.ArrayList, rich.HostList, rich.StoreList, rich.EngineList, rich.ObjectiveList, rich.ServiceList, rich.Databases, [replica]);
            var text = string.Join('\n', made.Select(CatalogueFile.WriteLine));
            Assert.Empty(CatalogueFile.Read(System.Text.Encoding.UTF8.GetBytes(text), "c", fleet).Faults);
        },
        iter: 1000);

    [Fact]
    public void Hours_of_steady_lag_are_a_line_and_lag_that_changes_much_is_another()
    {
        var steady = Enumerable.Range(0, 2000).Select(i => Sample(i * 10, (i * 10) - 1.5 - (i % 3), (i * 10) - 4));
        Assert.InRange(Made(Replica(), steady).Count, 1, 2);
        var worse = steady.Concat(Enumerable.Range(2000, 100).Select(i => Sample(i * 10, (i * 10) - 300, (i * 10) - 400)));
        var made = Made(Replica(), worse);
        Assert.InRange(made[^1].ReceivedLag.TotalSeconds, 310, 310 * 1.6);
        Assert.InRange(made[^1].From, At(19_990), At(20_010));
        Assert.Equal(At(20_990), made[^1].To);
    }

    [Fact]
    public void One_whose_commits_wait_lacks_nothing_however_seldom_it_is_looked_at()
    {
        var made = Made(Replica(), Enumerable.Range(0, 50).Select(i => Sample(i * 10, i * 10, (i * 10) - 1, inStep: true)));
        Assert.Equal(Duration.Zero, made[^1].ReceivedLag);
        Assert.Equal(At(490), made[^1].To);
    }

    [Fact]
    public void One_that_receives_nothing_is_cut_off_where_it_last_did_and_goes_on_later()
    {
        var before = Enumerable.Range(0, 10).Select(i => Sample(i * 10, (i * 10) - 1, (i * 10) - 2));
        var frozen = Enumerable.Range(10, 20).Select(i => Sample(i * 10, 89, 88));
        var made = Made(Replica(), [.. before, .. frozen]);
        Assert.InRange(made[^1].To, At(90), At(120));
        var again = Made(Replica(), [.. before, .. frozen, Sample(300, 299, 298), Sample(310, 309, 308)]);
        Assert.Equal(At(310), again[^1].To);
        Assert.DoesNotContain(again, s => s.From <= At(200) && At(200) <= s.To);
    }

    [Fact]
    public void Where_nobody_looked_nothing_is_said_and_what_is_old_is_not_heard()
    {
        var made = Made(Replica(), [Sample(0, -1, -2), Sample(10, 9, 8), Sample(100, 99, 98), Sample(50, 49, 48)]);
        Assert.Equal([(At(0), At(10)), (At(100), At(100))], made.Select(s => (s.From, s.To)));
    }

    [Fact]
    public void A_stretch_never_reaches_back_before_its_branch()
    {
        var made = Made(Replica(), [Sample(0, -1, -2), Sample(10, 9, 8), Sample(20, 19.5, 18, branch: 2), Sample(30, 29, 28, branch: 2), Sample(40, 39, 38, branch: 2)], At(19));
        Assert.All(made.Where(s => s.Branch == 2), s => Assert.True(s.From - s.ReceivedLag >= At(19)));
        Assert.Equal(At(40), made[^1].To);
    }

    [Fact]
    public void What_was_followed_without_an_outage_is_one_span_and_an_outage_parts_two()
    {
        static LagStretch Of(double from, double to) => new(new("r"), 1, At(from), At(to), Duration.FromSeconds(1), Duration.FromSeconds(2), Duration.FromSeconds(1), 0, null);
        var lag = new LagHistory(new("r"), [Of(0, 100), Of(100, 200), Of(220, 300), Of(500, 600)]);
        var most = Duration.FromSeconds(30);
        Assert.Equal([(At(0), At(300)), (At(500), At(600))], lag.Followed(At(-50), At(700), most));
        Assert.Equal([(At(150), At(300)), (At(500), At(550))], lag.Followed(At(150), At(550), most));
        Assert.Equal([(At(0), At(200)), (At(220), At(300))], lag.Followed(At(0), At(400), Duration.FromSeconds(10)));
        Assert.Empty(lag.Followed(At(310), At(490), most));
        Assert.Empty(new LagHistory(new("r"), []).Followed(At(0), At(10), most));
    }
}
