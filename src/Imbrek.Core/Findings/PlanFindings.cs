using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.Core.Findings;

/// <summary>The rules that look at what plans will do for one database.</summary>
public static class PlanFindings
{
    private const double ShortRpoSeconds = 3600;
    private const int MissedInARow = 3;

    /// <summary>Tasks of which nothing has come for longer than two times they were due since: a plan that is silent.</summary>
    /// <param name="fleet">The fleet with its plans.</param>
    /// <param name="database">The database.</param>
    /// <param name="catalogue">Its sets.</param>
    /// <param name="at">Now.</param>
    public static IEnumerable<Finding> Silence(FleetModel fleet, Database database, DatabaseCatalogue catalogue, Instant at)
    {
        var now = at.ToUnixTimeMilliseconds();
        foreach (var s in fleet.PlansOf(database).SelectMany(p => Series.Of(p, database, fleet)))
        {
            if (s.Task.Kind.Makes() is not { } kind || s.Task.Recurrence is null)
            {
                continue;
            }

            var due = new List<long>();
            for (var span = 3_600_000L; due.Count < MissedInARow && span <= 90 * 86_400_000L; span *= 12)
            {
                due.Clear();
                s.Expand(now - span, now, due);
            }

            var newest = long.MinValue;
            for (var i = catalogue.Count - 1; i >= 0 && newest == long.MinValue; i--)
            {
                newest = catalogue.Kinds[i] == kind ? catalogue.CoversTo[i] : newest;
            }

            if (due.Count >= MissedInARow && newest != long.MinValue && newest < due[^MissedInARow])
            {
                yield return new Finding(
                    "silent",
                    database.Id,
                    Urgency.Now,
                    $"Nothing has come of \"{s.Task.Id}\" for {PlainDuration.Of((now - newest) / 1000.0)}",
                    $"{s.Plan.Name} means it to come by now {MissedInARow} times over",
                    "Look at its runs, mend the cause, and run it now",
                    (now - newest) / 1000.0,
                    Instant.FromUnixTimeMilliseconds(newest));
            }
        }
    }

    /// <summary>Everything found about one database's plans, most urgent first.</summary>
    /// <param name="fleet">The fleet with its plans.</param>
    /// <param name="database">The database.</param>
    /// <param name="designed">Its designed figures; null when not made.</param>
    /// <param name="clashes">Clashes of the prediction.</param>
    /// <param name="proofs">What was proved.</param>
    /// <param name="at">Now.</param>
    public static IReadOnlyList<Finding> Of(
        FleetModel fleet, Database database, IReadOnlyList<DesignedFigures>? designed, IReadOnlyList<Clash> clashes, Proofs proofs, Instant at)
    {
        var plans = fleet.PlansOf(database);
        var backing = fleet.BackupPlansOf(database);
        if (backing.Count == 0)
        {
            return [new("no-plan", database.Id, Urgency.Now, "No plan covers it", "Nothing will back it up", "Put it under a plan")];
        }

        var found = new List<Finding>();
        if (backing.Count > 1)
        {
            Say("two-plans", Urgency.Soon, $"{backing.Count} plans catch it: {string.Join(", ", backing.Select(p => p.Name))}", "Both back it up; differentials of one may build on fulls of the other", "Leave it out of all plans but one");
        }

        foreach (var plan in plans)
        {
            LookAtKinds(plan);
            LookAtPlaces(plan);
            LookAtKeeping(plan);
            LookAtTimes(plan);
            LookAtShipping(plan);
            LookAtChecks(plan);
        }

        LookAtFigures();
        return [.. found.OrderByDescending(f => f.Urgency).DistinctBy(f => (f.Code, f.What))];

        void Say(string code, Urgency urgency, string what, string why, string remedy, double? seconds = null) => found.Add(new Finding(code, database.Id, urgency, what, why, remedy, seconds));

        void LookAtKinds(Plan plan)
        {
            var engine = fleet.Engines[database.Engine];
            foreach (var task in plan.Tasks)
            {
                if (task.Kind == TaskKind.Log && database.LogMode == LogMode.Discarded)
                {
                    Say("log-task-without-log", Urgency.Now, $"{plan.Name}: \"{task.Id}\" backs up a log that the database discards", "Every run of it is refused", "Let the database keep its log, then take a full");
                }
                else if (task.Kind.Makes() is { } kind && !engine.CanTake(kind))
                {
                    Say("kind-not-possible", Urgency.Now, $"{plan.Name}: {engine.Name} cannot take a {kind.ToString().ToLowerInvariant()}", "Every run of it fails", "Take a kind that the family knows");
                }

                if (task.Kind is TaskKind.Differential or TaskKind.Incremental && !engine.TracksChanges)
                {
                    Say("reads-everything", Urgency.Later, $"{plan.Name}: \"{task.Id}\" reads the whole database each time", $"{engine.Name} does not track changes, so only space is saved, not time", "Turn on change tracking, or take fulls");
                }

                if (task.Compression == Compression.Strong && fleet.Hosts[database.Host].Processors is { } processors && processors < 4)
                {
                    Say("compression-short-of-processor", Urgency.Soon, $"{plan.Name}: \"{task.Id}\" compresses hard on {database.Host}, where backups may use {processors:0.#} processors", "It slows down the database's own work and takes longer than the disks need", "Compress lightly");
                }
            }

            var bases = plan.Tasks.Where(t => t.Kind is TaskKind.Full or TaskKind.Snapshot).ToArray();
            if (plan.Tasks.Any(t => t.Kind is TaskKind.Differential or TaskKind.Incremental) && !Array.Exists(bases, b => !b.OutsideChain))
            {
                Say("no-base-in-chain", Urgency.Now, $"{plan.Name}: its differentials have no full to build on", bases.Length > 0 ? "Its fulls are taken outside the chain and are no base" : "It takes no full", "Take fulls inside the chain");
            }

            var states = plan.Tasks.Where(t => t.Kind.MakesState()).ToArray();
            if (states.Length > 0 && Array.TrueForAll(states, s => s.Kind == TaskKind.Export) && fleet.ObjectiveOf(database) is { RpoSeconds: < ShortRpoSeconds } objective)
            {
                Say("export-with-short-rpo", Urgency.Now, $"{plan.Name} only exports, and the RPO is {PlainDuration.Of(objective.RpoSeconds)}", "No log can follow an export: between two exports all is lost", "Take fulls and log backups, or agree a longer RPO");
            }
        }

        void LookAtPlaces(Plan plan)
        {
            var host = fleet.Hosts[database.Host];
            var stores = plan.Tasks.SelectMany(t => t.Stores).Distinct().Select(s => fleet.Stores[s]).ToArray();
            Loss[] domains = [Loss.Of(host.Id), .. host.Array is { } array ? new[] { Loss.Of(array) } : [], Loss.Of(host.Site)];
            if (stores.Length > 0 && Array.FindIndex(domains, d => Array.TrueForAll(stores, s => !d.Spares(s, fleet))) is >= 0 and var smallest && domains[smallest] is var lost
                && (lost.Kind != LossKind.Site || fleet.ObjectiveOf(database)?.Against.Contains(LossKind.Site) == true))
            {
                Say("copies-in-failure-domain", Urgency.Now, $"{plan.Name} keeps every copy within {lost}, with the database", "What destroys the database destroys its copies", $"Copy to a store outside {lost}");
            }

            foreach (var task in plan.Tasks.Where(t => t.Store is not null && t.Kind.Makes() is not null))
            {
                if (Routes.Between(fleet, database.Host, task.Store!.Value) is null)
                {
                    Say("store-unreachable", Urgency.Now, $"{plan.Name}: no link leads from {database.Host} to {task.Store}", "Every run of it fails", "Choose a store that can be reached");
                }
            }

            foreach (var key in plan.Tasks.Select(t => t.Key).OfType<string>().Distinct())
            {
                LookAtKey(plan, key);
            }
        }

        void LookAtKey(Plan plan, string key)
        {
            bool Without(Host h) => h.HasKey(key) == false;
            if (Without(fleet.Hosts[database.Host]))
            {
                Say("key-not-at-source", Urgency.Now, $"Key {key} is not on {database.Host}, which {plan.Name} has encrypt with it", "Every run of it fails", $"Put key {key} on {database.Host}");
            }

            // Where the database would be restored under each loss that matters; a loss that leaves no host is another finding.
            var after = (fleet.ObjectiveOf(database)?.Against ?? [LossKind.None]).Select(k => Loss.OfKind(k).For(database, fleet))
                .Select(loss => (Loss: loss, Left: database.RecoveryHosts.Select(h => fleet.Hosts[h]).Where(h => HostQualification.WhyNot(fleet, database, h, loss) is null).ToArray()))
                .Where(a => a.Left.Length > 0 && Without(a.Left[0])).ToArray();
            if (Array.Find(after, a => a.Left.All(Without)) is { Left: not null } none)
            {
                Say("key-not-at-recovery", Urgency.Now, $"Key {key} is on none of the hosts left {none.Loss.Clause} ({string.Join(", ", none.Left.Select(h => h.Id))})", "An encrypted copy without its key is lost", $"Put key {key} on {none.Left[0].Id}");
            }
            else if (after.Length > 0)
            {
                var first = after[0].Left[0].Id;
                Say("key-not-at-recovery", Urgency.Soon, $"Key {key} is not on {first}, where it would be restored first {after[0].Loss.Clause}", "A restore there is refused, and time is lost on finding another host", $"Put key {key} on {first}, or name another recovery host first");
            }
        }

        void LookAtKeeping(Plan plan)
        {
            foreach (var store in plan.Tasks.SelectMany(t => t.Stores).Distinct())
            {
                var bases = plan.Tasks.Where(t => t.Kind is TaskKind.Full or TaskKind.Snapshot && t.Stores.Contains(store)).Select(t => t.KeepIn(store).Reach).OfType<Duration>().ToArray();
                foreach (var task in plan.Tasks.Where(t => t.Kind is TaskKind.Differential or TaskKind.Incremental or TaskKind.Log && t.Stores.Contains(store)))
                {
                    if (bases.Length > 0 && task.KeepIn(store).Reach is { } reach && bases.Max() < reach)
                    {
                        Say("base-removed-first", Urgency.Soon, $"{plan.Name}: in {store} fulls are kept {Plain(bases.Max())}, \"{task.Id}\" {Plain(reach)}", "What builds on a full is worth nothing without it; clean-up keeps the full, so more space is used than the rule says", "Keep fulls at least as long as what builds on them");
                    }
                }
            }

            foreach (var task in plan.Tasks.Where(t => t.Kind.Makes() is not null && t.CopyTo.Count > 0 && t.KeepCopies is not null))
            {
                if (task.Keep.Reach is { } here && task.KeepCopies!.Reach is { } there && there < here)
                {
                    Say("downstream-kept-shorter", Urgency.Soon, $"{plan.Name}: \"{task.Id}\" is kept {Plain(here)} in {task.Store} and {Plain(there)} in {string.Join(", ", task.CopyTo)}", "When the first place is lost, less far can be gone back than planned", "Keep the further copies at least as long");
                }
            }

            foreach (var copy in plan.Tasks.Where(t => t.Kind == TaskKind.CopyElsewhere && t.Recurrence is not null))
            {
                var next = copy.Recurrence!.NextAfter(at, 2);
                var every = next.Count == 2 ? next[1] - next[0] : Duration.Zero;
                foreach (var log in plan.Tasks.Where(t => t.Kind == TaskKind.Log && t.Keep.Reach is { } keep && keep < every * 2))
                {
                    Say("source-keeps-log-too-short", Urgency.Now, $"{plan.Name}: log is kept {Plain(log.Keep.Reach!.Value)} at the source and copied every {Plain(every)}", "If one copy fails, log is removed before the next one", $"Keep log at least {Plain(every * 2)} at the source");
                }
            }
        }

        // What a shipped replica is worth is computed from its stages as they are stated; a plan that does less makes that untrue.
        void LookAtShipping(Plan plan)
        {
            Replica[] shipped = [.. fleet.ReplicasOf(database.Id).Where(r => r.Stages is not null && !(at < r.Since) && !(at >= r.Until))];
            foreach (var task in plan.Tasks)
            {
                if (task.Kind.Ships() is not { } step)
                {
                    continue;
                }

                if (shipped.Length == 0)
                {
                    Say("ships-to-nobody", Urgency.Later, $"{plan.Name}: \"{task.Id}\" ships log of it, and no replica is fed so", "It is due and does nothing", "Leave the database out, or set up a replica that log is shipped to");
                }

                var apart = plan.LongestGap(task, at);
                foreach (var r in shipped)
                {
                    if (apart is { } gap && gap.TotalSeconds > r.Stages![step].EverySeconds)
                    {
                        Say("shipped-less-often", Urgency.Soon, $"{plan.Name}: \"{task.Id}\" is up to {Plain(gap)} apart, and {r.Id} states {PlainDuration.Of(r.Stages[step].EverySeconds)}", "More can be lost than its figures say", "Plan it as often as is stated, or state what is planned", gap.TotalSeconds);
                    }

                    if (step != ShippingStep.Apply && task.Keep.KeepFor is { } keep && keep.TotalSeconds < r.Stages!.KeepSeconds(step))
                    {
                        Say("shipped-kept-less", Urgency.Soon, $"{plan.Name}: \"{task.Id}\" keeps what is shipped for {Plain(keep)}, and {r.Id} states {PlainDuration.Of(r.Stages.KeepSeconds(step)!.Value)}", "Away for longer, it must be seeded anew sooner than its figures say", "Keep it as long as is stated, or state what is planned", keep.TotalSeconds);
                    }
                }
            }
        }

        void LookAtTimes(Plan plan)
        {
            foreach (var task in plan.Tasks.Where(t => t.Recurrence is not null))
            {
                if (task.Recurrence!.NextAfter(at, 1).Count == 0)
                {
                    Say("never-fires", Urgency.Now, $"{plan.Name}: \"{task.Id}\" is never due again", "It is in the plan and does nothing", "Give it another recurrence, or take it out");
                }
                else if (task.Recurrence.InGaps(at, at + Duration.FromDays(366)).FirstOrDefault() is var gap && gap != default)
                {
                    Say("fires-in-clock-change", Urgency.Later, $"{plan.Name}: \"{task.Id}\" is due on {gap:uuuu-MM-dd} at {gap:HH:mm}, which the clock leaves out", "It runs when the clock has jumped, an hour off its usual place", "Start it outside the hour of the clock change");
                }
            }

            foreach (var clash in clashes.Where(c => c.Plan == plan.Id.Value && c.Kind == ClashKind.WindowMissed && c.Database == database.Id.Value))
            {
                Say("window-missed", Urgency.Soon, $"{plan.Name}: \"{clash.Task}\" ends up to {PlainDuration.Of(clash.WorstSeconds)} after its window", $"{clash.Count} runs of the coming week will not be done in time", "Start it earlier, spread it, compress it, or widen the window", clash.WorstSeconds);
            }

            foreach (var clash in clashes.Where(c => c.Kind == ClashKind.StoreFull && plan.Tasks.Any(t => t.Stores.Any(s => s.Value == c.Place))))
            {
                Say("store-will-be-full", clash.At - at < Duration.FromDays(14) ? Urgency.Now : clash.At - at < Duration.FromDays(60) ? Urgency.Soon : Urgency.Later, $"Store {clash.Place} will be full on {clash.At.InUtc().Date:uuuu-MM-dd}", "From then on backups to it fail", "Keep less there, or make room");
            }
        }

        void LookAtChecks(Plan plan)
        {
            if (plan.Tasks.Any(t => t.Kind.Makes() is not null) && !plan.Tasks.Any(t => t.Kind == TaskKind.Verify || t.VerifyAfterWriting))
            {
                Say("no-verification", Urgency.Soon, $"{plan.Name} never reads back what it wrote", "A damaged copy is found when it is needed", "Add a verify task");
            }

            if (proofs.Newest is null && !plan.Tasks.Any(t => t.Kind == TaskKind.TestRestore))
            {
                Say("never-test-restored", Urgency.Later, $"{plan.Name} has no test restore, and it was never restored", "A backup that nobody restored is a hope, not a proof", "Add a test restore");
            }

            if (plan.Tell.People.Count == 0)
            {
                Say("nobody-is-told", Urgency.Soon, $"{plan.Name} tells nobody", "A run that fails for days is seen by chance", "Say who is told of failures");
            }
        }

        void LookAtFigures()
        {
            if (designed is null || fleet.ObjectiveOf(database) is not { } objective)
            {
                return;
            }

            foreach (var f in designed)
            {
                if (f.Window.SecondsUnprotected > 0)
                {
                    Say("rpo-missed-by-design", Urgency.Now, $"{Capital(f.Loss.Clause)} the plan leaves nothing to restore from", $"The RPO is {PlainDuration.Of(objective.RpoSeconds)}", "Copy what is needed to where that loss does not reach");
                }
                else if (!f.KeepsRpo(objective))
                {
                    Say("rpo-missed-by-design", Urgency.Now, $"{Capital(f.Loss.Clause)} the plan could lose {PlainDuration.Beyond(f.Window.WorstExposureSeconds ?? 0, objective.RpoSeconds)}", "Even if all goes well the objective is not kept", "Back up more often, or copy sooner", f.Window.WorstExposureSeconds);
                }

                if (f.LongestRestore is { } path && path.ServiceSeconds > objective.RtoSeconds)
                {
                    Say("rto-missed-by-design", Urgency.Now, $"{Capital(f.Loss.Clause)} the plan's longest restore takes {PlainDuration.Beyond(path.ServiceSeconds, objective.RtoSeconds)}", "Even if all goes well the objective is not kept", "Take states more often, or keep a copy where it is read faster", path.ServiceSeconds);
                }
            }
        }

        static string Capital(string clause) => char.ToUpperInvariant(clause[0]) + clause[1..];

        static string Plain(Duration duration) => PlainDuration.Of(duration.TotalSeconds);
    }
}
