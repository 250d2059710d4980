using System.Diagnostics;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.StandIn.Scenario;
using NodaTime;

namespace Imbrek.Bench;

/// <summary>What the ways back cost at fleet size: all ways of one database, one instant for many, a site whose databases wait for what their instances need.</summary>
internal static class WaysBench
{
    private const int Together = 500, SetsEach = 10_000, Days = 30, Databases = 10_000, FewSets = 100;

    public static void Run(Instant now, Action<string, string, string> row)
    {
        var fleet = FleetGenerator.WithReplicas(FleetGenerator.Fleet(Together));
        RecoverySubject[] subjects = [.. fleet.Databases.Select(d => RecoverySubject.Of(fleet, d, new DatabaseCatalogue(d.Id, FleetGenerator.Sets(d.Id, SetsEach, Days, now))))];
        Best($"the common instant of {Together} databases with {SetsEach:#,0} sets each, with who holds back", "under 200 ms", () => CommonInstant.Of(subjects, Loss.None, now, now));

        var one = subjects[0] with { Fleet = Changed(fleet, e => e with { MountsSets = true }) };
        var question = new PathQuestion { Target = now - Duration.FromHours(30), At = now };
        var can = new WaysCompared.Abilities(false, null, null, null, null, null);
        Best($"all ways of one database of {SetsEach:#,0} sets, compared", "under 50 ms", () => WaysCompared.Of(one, question, Loss.None, can));

        var many = FleetGenerator.Fleet(Databases);
        var first = many.Databases.GroupBy(d => (d.Host, d.Engine)).Select(g => g.First().Id).ToHashSet();
        many = many.With(databases: many.Databases.Select(d => first.Contains(d.Id) ? d with { Holds = [InstancePart.Accounts, InstancePart.Keys] } : d));
        RecoverySubject[] all = [.. many.Databases.Select(d => RecoverySubject.Of(many, d, new DatabaseCatalogue(d.Id, FleetGenerator.Sets(d.Id, FewSets, 8, now))))];
        var watch = Stopwatch.StartNew();
        var plan = SiteLoss.Of(all, many, many.SiteList[0].Id, now);
        row($"a site of {plan.Returns.Count:#,0} databases comes back, the instance data of {first.Count:#,0} instances first", $"{watch.Elapsed.TotalSeconds:0.00} s", "under 5 s");

        void Best(string what, string asked, Action work)
        {
            var best = double.MaxValue;
            for (var round = 0; round < 7; round++)
            {
                var took = Stopwatch.StartNew();
                work();
                best = Math.Min(best, took.Elapsed.TotalMilliseconds);
            }

            row(what, $"{best:0.0} ms", asked);
        }
    }

    private static FleetModel Changed(FleetModel f, Func<EngineProfile, EngineProfile> engine) => new(
        f.SiteList, f.Links, f.ArrayList, f.HostList, f.StoreList, [.. f.EngineList.Select(engine)], f.ObjectiveList, f.ServiceList, f.Databases, f.ReplicaList, f.GroupList);
}
