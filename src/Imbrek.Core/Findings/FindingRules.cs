using Imbrek.Core.Catalogue;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using NodaTime;

namespace Imbrek.Core.Findings;

/// <summary>The rules that look at one database and its catalogue.</summary>
public static class FindingRules
{
    /// <summary>What the sets show and what the plans would bring, where both rules see one trouble said once: by the sets there are.</summary>
    /// <param name="seen">Found in the database and its catalogue.</param>
    /// <param name="designed">Found in its plans.</param>
    public static IEnumerable<Finding> SaidOnce(IReadOnlyList<Finding> seen, IEnumerable<Finding> designed)
    {
        var covered = seen.Select(f => f.Code switch
        {
            "no-sets" => "no-plan",
            "same-failure-domain" => "copies-in-failure-domain",
            "log-discarded" => "log-task-without-log",
            "never-restored" => "never-test-restored",
            _ => null,
        }).ToHashSet();
        return seen.Concat(designed.Where(f => !covered.Contains(f.Code)));
    }

    /// <summary>Everything found, most urgent first.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="proofs">What was proved; null when that is not known.</param>
    /// <param name="at">The as-of instant.</param>
    /// <param name="window">How far back to look for holes.</param>
    /// <param name="planChanged">When what its plans do was changed last; null when that is not known.</param>
    public static IReadOnlyList<Finding> Of(RecoverySubject subject, Proofs? proofs, Instant at, Duration window, Instant? planChanged = null)
    {
        var found = new List<Finding>();
        var c = subject.Catalogue;
        var live = Enumerable.Range(0, c.Count).Where(s => IsLive(c, s, at)).Select(s => c[s]).ToArray();
        if (live.Length == 0)
        {
            found.Add(new(
                "no-sets",
                subject.Database.Id,
                Urgency.Now,
                "No plan covers it and there is no backup set",
                subject.Replicas.Count == 0 ? "If it were lost now, all of it would be lost" : "What is changed or deleted by mistake is changed on its replicas as well, and cannot be brought back",
                "Put it under a plan and take a first full"));
        }
        else
        {
            found.AddRange(SameFailureDomain(subject, live, at));
            // What replicas reach says nothing of the chain of sets: between its end and what a replica still holds there is no hole.
            found.AddRange(HoleInLog(subject.WithoutReplicas, live, at, window));
            found.AddRange(CoveredSince(subject.WithoutReplicas, at));
            found.AddRange(Damaged(subject, live));
            found.AddRange(WithoutParent(subject, at));
            found.AddRange(LogDiscarded(subject));
            if (proofs?.Newest is null)
            {
                found.Add(new(
                    "never-restored",
                    subject.Database.Id,
                    Urgency.Soon,
                    "It was never restored",
                    "A backup that nobody restored is a hope, not a proof",
                    "Restore it aside and check it"));
            }
            else if (subject.Objective is { } objective)
            {
                found.AddRange(ProofDue(subject, proofs, objective, at, planChanged));
            }
        }

        if (subject.Objective is { Until: { } until } exception && until <= at)
        {
            found.Add(new(
                "objective-past-its-end",
                subject.Database.Id,
                Urgency.Later,
                $"\"{exception.Name}\" was agreed for it until {Instants.Write(until)}{(exception.Owner is null ? "" : $", by {exception.Owner}")}",
                "An exception that nobody ends becomes what is agreed, and nobody has agreed to that",
                "Agree it anew with an end, or give the database the objective that it should have",
                (at - until).TotalSeconds,
                until));
        }

        found.AddRange(InstanceData(subject));
        found.AddRange(ReplicaFindings.Of(subject, at, proofs?.TookOver));
        return [.. found.OrderByDescending(f => f.Urgency)];
    }

    /// <summary>Instance data that no plan backs up, and a database whose instance nobody names where those of others are.</summary>
    private static IEnumerable<Finding> InstanceData(RecoverySubject subject)
    {
        var (d, fleet) = (subject.Database, subject.Fleet);
        if (d.IsInstanceData && fleet.BackupPlansOf(d).Count == 0)
        {
            var needing = fleet.Needing(d);
            yield return new(
                "instance-data-uncovered",
                d.Id,
                Urgency.Now,
                $"No plan backs up the {string.Join(", ", d.Holds.Select(h => h.ToString().ToLowerInvariant()))} of {d.Host}",
                needing.Count == 0 ? "Whatever is restored there comes back without them" : $"{string.Join(", ", needing.Take(4).Select(n => n.Name))}{(needing.Count > 4 ? $" and {needing.Count - 4} more" : "")} would come back without them, and be of use to nobody",
                "Put it under a plan; what it holds is small and changes seldom");
        }
        else if (!d.IsInstanceData && fleet.KnowsInstanceData && fleet.Before(d).Count == 0)
        {
            yield return new(
                "instance-data-unknown",
                d.Id,
                Urgency.Later,
                $"Nobody says what holds the accounts, jobs and keys of its instance on {d.Host}",
                "Restored, it may stand without the accounts that use it; of others in the fleet it is known",
                "Name it in the fleet as a database that holds them, and put that under a plan");
        }
    }

    /// <summary>Losses its objective names of which no proof counts.</summary>
    private static IEnumerable<Finding> ProofDue(RecoverySubject subject, Proofs proofs, Objective objective, Instant at, Instant? planChanged)
    {
        var due = objective.Against.Select(kind => (Loss.OfKind(kind).Clause, Why: proofs.Standing(subject.Database, subject.Fleet, objective, kind, at, planChanged).WhyNot)).Where(d => d.Why is not null).ToArray();
        if (due.Length > 0)
        {
            yield return new(
                "proof-due",
                subject.Database.Id,
                Urgency.Later,
                due.Length == objective.Against.Count ? "No proof of it counts" : $"No proof of it counts {string.Join(" or ", due.Select(d => d.Clause))}",
                string.Join("; ", due.Select(d => d.Why!).Distinct()),
                "Restore it aside under that loss, or hold a drill");
        }
    }

    /// <summary>Whether some copy of a set is there at an instant.</summary>
    private static bool IsLive(DatabaseCatalogue catalogue, int set, Instant at)
    {
        var a = at.ToUnixTimeMilliseconds();
        for (var copy = catalogue.CopyStart(set); copy < catalogue.CopyEnds[set]; copy++)
        {
            if (catalogue.AvailableAt[copy] <= a && (catalogue.RemovedAt is null || catalogue.RemovedAt[copy] > a))
            {
                return true;
            }
        }

        return false;
    }

    private static IEnumerable<Finding> SameFailureDomain(RecoverySubject subject, BackupSet[] live, Instant at)
    {
        var host = subject.Fleet.Hosts[subject.Database.Host];
        var stores = live.SelectMany(s => s.Copies).Where(c => c.AvailableAt <= at && (c.RemovedAt is not { } r || r > at))
            .Select(c => c.Store).Distinct().Select(s => subject.Fleet.Stores[s]).ToArray();
        Loss[] domains = [Loss.Of(host.Id), .. host.Array is { } array ? new[] { Loss.Of(array) } : [], Loss.Of(host.Site)];
        foreach (var domain in domains)
        {
            if (Array.TrueForAll(stores, s => !domain.Spares(s, subject.Fleet)))
            {
                var names = string.Join(", ", stores.Select(s => s.Id));
                yield return new(
                    "same-failure-domain",
                    subject.Database.Id,
                    domain.Kind == LossKind.Site && subject.Objective?.Against.Contains(LossKind.Site) != true ? Urgency.Soon : Urgency.Now,
                    $"Every copy ({names}) is lost together with the database: {domain}",
                    "A copy in the same failure domain is no protection against its loss",
                    $"Keep a further copy outside {domain}");
                yield break;
            }
        }
    }

    private static IEnumerable<Finding> HoleInLog(RecoverySubject subject, BackupSet[] live, Instant at, Duration window)
    {
        if (!live.Any(s => s.Kind == SetKind.Log))
        {
            yield break;
        }

        foreach (var gap in CoverExplainer.Gaps(subject, Loss.None, at, at - window).Where(g => !g.AtEnd))
        {
            if (gap.BeforeFirst)
            {
                // Before its first set a database has no hole: it is covered since then.
                continue;
            }

            yield return new(
                "log-hole",
                subject.Database.Id,
                Urgency.Soon,
                $"Hole of {PlainDuration.Of((gap.Span.To - gap.Span.From).TotalSeconds)} in the log chain from {Formats.Instants.Write(gap.Span.From)}",
                string.Join("; ", gap.Reasons),
                "Take a differential or full now, so that the chain goes on from there",
                (gap.Span.To - gap.Span.From).TotalSeconds,
                gap.Span.From);
        }
    }

    /// <summary>How far back one can go at all, where a plan wanted further: it is as it must be while a plan is young, and worth knowing.</summary>
    private static IEnumerable<Finding> CoveredSince(RecoverySubject subject, Instant at)
    {
        var wanted = subject.Fleet.PlansOf(subject.Database).SelectMany(p => p.Tasks).Where(t => t.Kind.Makes() is not null)
            .Select(t => t.Keep.Continuous).OfType<Duration>().DefaultIfEmpty(Duration.Zero).Max();
        if (wanted > Duration.Zero && Evaluator.RecoverableAt(subject, Loss.None, at) is [var first, ..] && at - first.From < wanted)
        {
            yield return new(
                "covered-since",
                subject.Database.Id,
                Urgency.Later,
                $"It can be gone back to {Formats.Instants.Write(first.From)} at the earliest",
                $"Its plan wants {PlainDuration.Of(wanted.TotalSeconds)}, without a gap; there is no older set",
                "Wait until it is full, or import older sets if they still lie somewhere",
                (wanted - (at - first.From)).TotalSeconds,
                first.From);
        }
    }

    private static IEnumerable<Finding> Damaged(RecoverySubject subject, BackupSet[] live)
    {
        foreach (var set in live.Where(s => s.Copies.Any(c => c.State == CopyState.Damaged)))
        {
            var bad = string.Join(", ", set.Copies.Where(c => c.State == CopyState.Damaged).Select(c => c.Store));
            var whole = set.Copies.Any(c => c.State != CopyState.Damaged && c.RemovedAt is null);
            yield return new(
                "damaged-copy",
                subject.Database.Id,
                whole ? Urgency.Soon : Urgency.Now,
                $"{set.Kind} {set.Id} is damaged in {bad}",
                whole ? "One copy fewer than planned" : "No whole copy of it is left; what builds on it cannot be restored",
                whole ? "Copy it again from the store where it is whole" : "Take a new full now");
        }
    }

    /// <summary>"A missing parent id or a cycle makes the set unavailable, with a finding."</summary>
    private static IEnumerable<Finding> WithoutParent(RecoverySubject subject, Instant at)
    {
        var c = subject.Catalogue;
        if (!c.Parents.AsSpan().ContainsAny(DatabaseCatalogue.ParentMissing, DatabaseCatalogue.ParentCircular))
        {
            yield break;
        }

        var lowest = c.FromParents<int>((set, parent) => c.Parents[set] >= 0 ? parent : set);
        foreach (var group in Enumerable.Range(0, c.Count).Where(s => IsLive(c, s, at)).GroupBy(s => lowest[s]).Where(g => c.WhyWithoutParent(g.Key) is not null))
        {
            var (first, more) = (group.First(), group.Count() - 1);
            yield return new(
                "parent-missing",
                subject.Database.Id,
                Urgency.Soon,
                $"{c.Kinds[first]} {c.IdOf(first)}{(more == 0 ? "" : $" and {more} more")} cannot be restored",
                c.WhyWithoutParent(group.Key)!,
                "Import what they build on if it still lies somewhere, or take a new full now");
        }
    }

    private static IEnumerable<Finding> LogDiscarded(RecoverySubject subject)
    {
        if (subject.Database.LogMode == LogMode.Discarded && subject.Objective is { RpoSeconds: < 86_400 } objective)
        {
            yield return new(
                "log-discarded",
                subject.Database.Id,
                Urgency.Now,
                "It discards its log, so log backups are refused",
                $"Between two fulls nothing can be recovered, and its RPO is {PlainDuration.Of(objective.RpoSeconds)}",
                "Let it keep its log, then take a full");
        }
    }
}
