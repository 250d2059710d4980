using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>What is looked at before roles change, as far as figures tell (section 11, prechecks); what can be tried is tried by the run itself.</summary>
public static class DrillPrechecks
{
    /// <summary>A target that is slower than its source by more than this share is warned of.</summary>
    private const double MaySlowBy = 0.25;

    private static readonly Duration Day = Duration.FromDays(1);

    /// <summary>Looks at everything.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="source">The replica that is to become the primary.</param>
    /// <param name="kind">Switchover or forced.</param>
    /// <param name="planned">What it comes to.</param>
    /// <param name="at">When.</param>
    public static IReadOnlyList<Precheck> Of(RecoverySubject subject, ReplicaSource source, DrillKind kind, PlannedDrill planned, Instant at)
    {
        var (fleet, d, replica) = (subject.Fleet, subject.Database, source.Replica);
        var found = new List<Precheck>();
        foreach (var reason in planned.Refused)
        {
            found.Add(new("can be done", PrecheckOutcome.Failed, reason));
        }

        Lag();
        Backup();
        var there = fleet.Hosts[replica.Place.Hosts[0]];
        var differ = Sides.Differ(fleet, d, there);
        found.Add(new("settings", differ.Count == 0 ? PrecheckOutcome.Passed : PrecheckOutcome.Failed, differ.Count == 0 ? "both sides agree in all they state" : string.Join("; ", differ)));
        Capacity(fleet.Hosts[d.Host], there);
        Votes();
        var plans = fleet.BackupPlansOf(d);
        found.Add(new("its own backups", plans.Count > 0 ? PrecheckOutcome.Passed : PrecheckOutcome.Warned, plans.Count > 0 ? $"{string.Join(", ", plans.Select(p => p.Name))} go with it from the moment it is the primary" : "no plan covers it: as a primary it will not be backed up"));
        if (subject.Objective is { } o)
        {
            found.Add(new("name records", d.RedirectSeconds <= o.RtoSeconds ? PrecheckOutcome.Passed : PrecheckOutcome.Failed, $"clients follow within {PlainDuration.Of(d.RedirectSeconds)}; its RTO is {PlainDuration.Of(o.RtoSeconds)}"));
            if (planned.ServiceSeconds > o.RtoSeconds)
            {
                found.Add(new("RTO", PrecheckOutcome.Warned, $"it will take {PlainDuration.Beyond(planned.ServiceSeconds.Value, o.RtoSeconds)}"));
            }

            if (planned.LostSeconds > o.RpoSeconds)
            {
                found.Add(new("RPO", PrecheckOutcome.Warned, $"it will lose {PlainDuration.Beyond(planned.LostSeconds.Value, o.RpoSeconds)}"));
            }
        }

        return found;

        void Lag()
        {
            if (source.At(at) is not { } known)
            {
                return;
            }

            var now = (at - known.ReceivedTo).TotalSeconds;
            var worst = source.Lag.WorstReceivedLag(at - Day, at)?.TotalSeconds ?? 0;
            var bound = subject.Objective?.RpoSeconds ?? 60;
            found.Add(new(
                "in step",
                now <= bound || kind == DrillKind.Switchover ? PrecheckOutcome.Passed : PrecheckOutcome.Warned,
                $"received up to {PlainDuration.Of(now)} ago; at worst of the last day {PlainDuration.Of(Math.Max(now, worst))} behind"));
        }

        void Backup()
        {
            var newest = Evaluator.Evaluate(subject.WithoutReplicas, Loss.None, at);
            var rpo = subject.Objective?.RpoSeconds;
            found.Add(newest.ExposureSeconds is not { } age
                ? new("backup", PrecheckOutcome.Failed, "there is no backup from which it could be restored should this go wrong")
                : new("backup", age <= (rpo ?? double.PositiveInfinity) ? PrecheckOutcome.Passed : PrecheckOutcome.Warned, $"its backups reach to {PlainDuration.Of(age)} ago{(rpo is { } r && age > r ? $"; {PlainDuration.Of(r)} is agreed" : "")}"));
        }

        void Capacity(Host from, Host to)
        {
            var slower = to.WriteBytesPerSecond < from.WriteBytesPerSecond * (1 - MaySlowBy) ? $"it writes {to.WriteBytesPerSecond / 1e6:0} MB a second, {from.Id} {from.WriteBytesPerSecond / 1e6:0} MB"
                : to.Processors < from.Processors * (1 - MaySlowBy) ? $"it has {to.Processors:0.##} processors, {from.Id} {from.Processors:0.##}"
                : null;
            found.Add(new("capacity", slower is null ? PrecheckOutcome.Passed : PrecheckOutcome.Warned, slower is null ? $"{to.Id} is about as fast as {from.Id}" : $"{to.Id} will serve slowly: {slower}"));
        }

        void Votes()
        {
            if (fleet.GroupOf(d.Id) is { Voters.Count: > 0 } group)
            {
                var loss = Loss.Of(fleet.Hosts[d.Host].Site);
                var (alive, majority) = (Voters.AliveAfter(group, loss, fleet), Voters.HaveMajorityAfter(group, loss, fleet));
                found.Add(new("voters", majority ? PrecheckOutcome.Passed : PrecheckOutcome.Warned, $"{alive} of {group.Voters.Count} are left without {fleet.Hosts[d.Host].Site}{(majority ? "" : ": no majority")}"));
            }
        }
    }
}
