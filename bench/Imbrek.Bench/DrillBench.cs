using System.Diagnostics;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.Bench;

/// <summary>What planning drills costs at fleet size: a site's return, a year's programme, a long runbook.</summary>
internal static class DrillBench
{
    private const int Databases = 10_000, SetsEach = 100, Days = 8, ProgrammeDays = 365, Steps = 100_000;

    public static void Run(Instant now, Action<string, string, string> row)
    {
        SiteReturn(now, row);
        Programme(row);
        Runbook(row);
    }

    private static void SiteReturn(Instant now, Action<string, string, string> row)
    {
        var fleet = FleetGenerator.WithReplicas(FleetGenerator.Fleet(Databases));

        // All are on one site, and half of them have a replica elsewhere of which something is known.
        RecoverySubject[] subjects =
        [
            .. fleet.Databases.Select((d, i) => RecoverySubject.Of(fleet, d, new DatabaseCatalogue(d.Id, FleetGenerator.Sets(d.Id, SetsEach, Days, now))
                .WithLag([.. fleet.ReplicasOf(d.Id).Where(_ => i % 2 == 0).Select(r => new LagHistory(r.Id, FleetGenerator.Lag(r, SetsEach, Days, now)))]))),
        ];
        var watch = Stopwatch.StartNew();
        var plan = SiteLoss.Of(subjects, fleet, fleet.SiteList[0].Id, now, people: 12);
        watch.Stop();
        row($"a site of {plan.Returns.Count:#,0} databases comes back: {plan.Returns.Count(r => r.Way is not null):#,0} by their best ways, two at once on a host, twelve people", $"{watch.Elapsed.TotalSeconds:0.00} s", "under 5 s");
    }

    private static void Programme(Action<string, string, string> row)
    {
        var random = new Random(5);
        const int Hosts = 400, Sites = 6;
        int[] siteOf = [.. Enumerable.Range(0, Hosts).Select(h => h % Sites)];
        ProofCalendar.Proof[] proofs = [.. Enumerable.Range(0, 2 * Databases).Select(_ => new ProofCalendar.Proof(random.Next(Hosts), random.Next(ProgrammeDays)))];
        foreach (var (inAll, inSite, onHost) in ((int, int, int)[])[(60, 15, 1), (1000, 10, 1), (56, 1000, 1000)])
        {
            var watch = Stopwatch.StartNew();
            var calendar = ProofCalendar.Of(new(ProgrammeDays, proofs, siteOf, _ => inAll, (_, _) => inSite, (h, d) => (h + d) % 7 < 2 ? 0 : onHost));
            watch.Stop();
            row($"the programme of 10,000 databases, two losses each, over a year: {inAll} a day, {inSite} in a site, {onHost} on a host, weekends off; {calendar.Kept:#,0} of {proofs.Length:#,0} kept", $"{watch.Elapsed.TotalSeconds:0.00} s", "under 10 s");
        }
    }

    private static void Runbook(Action<string, string, string> row)
    {
        var random = new Random(5);
        var plan = new RunPlan([.. Enumerable.Range(1, Steps).Select(n => new Step
        {
            Number = n,
            Kind = "k",
            Title = "step",
            Owner = n % 5 == 0 ? "operate" : Step.Product,
            After = n == 1 ? [] : [.. Enumerable.Range(0, 2).Select(_ => random.Next(Math.Max(1, n - 200), n)).Distinct()],
            ExpectedSeconds = random.Next(1, 60),
        })]);
        var (plain, people) = (double.MaxValue, double.MaxValue);
        for (var round = 0; round < 7; round++)
        {
            plain = Math.Min(plain, Milliseconds(() => Schedule.Of(plan)));
            people = Math.Min(people, Milliseconds(() => Schedule.Of(plan, new Dictionary<string, int> { ["operate"] = 8 })));
        }

        row($"critical path and slack of a runbook of {Steps:#,0} steps", $"{plain:0} ms", "under 100 ms");
        row("the same with eight people for a fifth of the steps", $"{people:0} ms", "under 100 ms");
    }

    private static double Milliseconds(Action work)
    {
        var watch = Stopwatch.StartNew();
        work();
        return watch.Elapsed.TotalMilliseconds;
    }
}
