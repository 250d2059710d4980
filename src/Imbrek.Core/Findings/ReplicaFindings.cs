using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using NodaTime;

namespace Imbrek.Core.Findings;

/// <summary>The rules that look at the replicas of one database: which of them only look as if they were worth something.</summary>
internal static class ReplicaFindings
{
    /// <summary>How long a replica may be away for a repair or a move without anybody having to hurry, seconds.</summary>
    private const double MayBeAwaySeconds = 3600;

    /// <summary>So many looks in a row must have failed before a replica is said to be cut off.</summary>
    private const double LooksBeforeTrouble = 3;

    /// <summary>What is read on a replica is too old when it is older than this and than twice what it comes to by design, seconds.</summary>
    private const double ReadersNoticeSeconds = 300;

    /// <summary>Applying has stopped when more than this lies between received and applied beyond any delay, seconds.</summary>
    private const double ApplyStoppedSeconds = 3600;

    /// <summary>A volume that fills within this span is worth a date, days.</summary>
    private const double FillsWithinDays = 30;

    /// <summary>Everything found.</summary>
    /// <param name="subject">The database.</param>
    /// <param name="at">The as-of instant.</param>
    /// <param name="everTookOver">Whether a replica of it ever took over and all checks passed; null when that is not known.</param>
    public static IEnumerable<Finding> Of(RecoverySubject subject, Instant at, bool? everTookOver)
    {
        if (everTookOver == false && subject.Replicas.Where(r => r.Replica.TakesOver != TakesOver.Never && !(at < r.Replica.Since) && !(at >= r.Replica.Until)).Select(r => r.Replica.Id).ToArray() is { Length: > 0 } ready)
        {
            yield return Found(subject, "never-taken-over", Urgency.Later, $"{string.Join(", ", ready)} {(ready.Length == 1 ? "has" : "have")} never taken over", "That taking over works, and how long it takes, is a hope until it was done once", "Have one take over on a day of your choice, and come back");
        }

        foreach (var f in OfGroup(subject))
        {
            yield return f;
        }

        foreach (var f in AfterSwitch(subject, at))
        {
            yield return f;
        }

        foreach (var source in subject.Replicas.Where(r => !(at < r.Replica.Since) && !(at >= r.Replica.Until)))
        {
            foreach (var f in OfDesign(subject, source.Replica).Concat(OfSides(subject, source.Replica)).Concat(OfState(subject, source, at)))
            {
                yield return f;
            }
        }
    }

    private static Finding Found(RecoverySubject subject, string code, Urgency urgency, string what, string why, string remedy, double? seconds = null, Instant? since = null) =>
        new(code, subject.Database.Id, urgency, what, why, remedy, seconds, since);

    private static IEnumerable<Finding> OfGroup(RecoverySubject subject)
    {
        var (fleet, d) = (subject.Fleet, subject.Database);
        if (fleet.GroupOf(d.Id) is not { } group)
        {
            yield break;
        }

        if (group.Voters.Count > 0 && group.Voters.Count % 2 == 0)
        {
            yield return Found(subject, "even-voters", Urgency.Soon, $"Group {group.Name} has {group.Voters.Count} voters", "Cut in two halves neither has a majority: nothing takes over, although half of the hosts are there",
                "Add a voter in a third site, or take one away");
        }

        var byItself = subject.Replicas.Any(r => r.Replica.TakesOver == TakesOver.ByItself);
        var host = fleet.Hosts[d.Host];
        Loss[] losses = [Loss.Of(host.Id), .. host.Array is { } a ? [Loss.Of(a)] : Array.Empty<Loss>(), Loss.Of(host.Site)];
        foreach (var loss in losses.Where(l => byItself && !Voters.HaveMajorityAfter(group, l, fleet)).Take(1))
        {
            yield return Found(subject, "majority-lost", Urgency.Now, $"The loss of {loss} takes the majority: {Voters.AliveAfter(group, loss, fleet)} of {group.Voters.Count} voters of {group.Name} would be left",
                "Its replica would not take over by itself after the very loss it is for", "Put voters where that loss does not reach them: a third site as a rule");
        }

        if (subject.Replicas.Count == 0 && group.Databases.Any(o => fleet.ReplicasOf(o).Count > 0))
        {
            yield return Found(subject, "not-replicated", Urgency.Now, $"It belongs to group {group.Name}, and has no replica as the others have",
                "After a switch the others would be there and it would not; what belongs together would not fit together", "Add a replica of it where those of the others are");
        }
    }

    /// <summary>What must follow a promotion: until then the database's backups are those of the branch that was left.</summary>
    private static IEnumerable<Finding> AfterSwitch(RecoverySubject subject, Instant at)
    {
        var live = ReplicaSource.LiveBranchOf(subject.Database, at);
        if (live == 1 || subject.Replicas.Count == 0)
        {
            yield break;
        }

        var c = subject.Catalogue;
        var since = subject.Database.StartOf(live);
        if (!Enumerable.Range(0, c.Count).Any(i => c.Branches[i] == live && c.AcceptsLogByItself(i) && c.Kinds[i] != SetKind.Log))
        {
            yield return Found(subject, "no-base-on-branch", Urgency.Now, $"Nothing was backed up of branch {live} yet, which it has been on since {Instants.Write(since)}",
                "What was written since then is in no backup from which log could go on", "Take a full now", (at - since).TotalSeconds, since);
        }
    }

    /// <summary>What can be told from what was agreed, whatever is seen.</summary>
    private static IEnumerable<Finding> OfDesign(RecoverySubject subject, Replica replica)
    {
        var (fleet, d) = (subject.Fleet, subject.Database);
        if (replica.TakesOver == TakesOver.ByItself && !replica.LosesNothing)
        {
            yield return Found(subject, "unasked-loss", Urgency.Now, $"{replica.Id} takes over by itself, and its mode can lose", "What it has not received is lost without anybody having decided so",
                "Let a commit wait for it, or have it take over by hand");
        }

        if (replica.TakesOver != TakesOver.Never && subject.Replicas.All(r => r.Replica.TakesOver == TakesOver.Never || Shared(r.Replica) is not null) && Shared(replica) is { } domain)
        {
            yield return Found(subject, "replica-in-failure-domain", Urgency.Now, $"{replica.Id} is lost together with its primary: {domain}", "A replica in the failure domain of its primary is no way back from its loss",
                $"Keep one outside {domain}");
        }

        var held = replica.DelaySeconds + replica.RewindSeconds;
        if (held > 0 && held < d.DetectSeconds + d.DecideSeconds)
        {
            yield return Found(subject, "delay-too-short", Urgency.Soon, $"{replica.Id} holds back {PlainDuration.Of(held)}, and to notice and decide takes {PlainDuration.Of(d.DetectSeconds + d.DecideSeconds)}",
                "A bad change has passed it before anybody stops it: it protects nothing", "Make the delay longer than that", held);
        }

        if (LogFlow.Of(d) is { } flow && replica.ReceiveRateIn(fleet) is > 0 and var rate && flow.Busiest > rate)
        {
            var lag = flow.LongestQueue(rate) / rate;
            yield return Found(subject, "link-too-small", Urgency.Soon, $"{replica.Id} gets {Megabytes(rate)} a second, and in its busiest hour {Megabytes(flow.Busiest)} a second of log are written",
                lag is { } late ? $"It falls {PlainDuration.Of(late)} behind every day" : "It never catches up: more is written than the link carries", "Widen the link, or send it less", lag);
        }

        // In step, with nothing of the log used up yet.
        if (new KeptLog(d, replica, LogFlow.Of(d)).SecondsLeft(Instant.FromUnixTimeSeconds(0), 0) is { } kept && kept < Math.Max(MayBeAwaySeconds, d.DetectSeconds + d.DecideSeconds))
        {
            yield return Found(subject, "log-kept-too-short", Urgency.Soon, $"The source keeps log for {replica.Id} for {PlainDuration.Of(kept)}", "If it is away for longer it must be seeded anew, or mended from backups", "Have the source keep more log", kept);
        }

        if (replica.Stages is { KeepHereSeconds: { } here, KeepAtSourceSeconds: { } there } && here < there)
        {
            yield return Found(subject, "shipped-kept-shorter", Urgency.Later, $"{replica.Id} keeps what was shipped for {PlainDuration.Of(here)}, its source for {PlainDuration.Of(there)}",
                "With the source its log is lost, and what is kept here reaches back less far", "Keep it here for as long as there", here);
        }

        string? Shared(Replica other)
        {
            var host = fleet.Hosts[d.Host];
            Loss[] losses = [Loss.Of(host.Id), .. host.Array is { } a ? [Loss.Of(a)] : Array.Empty<Loss>(), .. subject.Objective?.Against.Contains(LossKind.Site) == true ? [Loss.Of(host.Site)] : Array.Empty<Loss>()];
            return losses.Where(l => other.HostAfter(l, fleet) is null).Select(l => l.ToString()).FirstOrDefault();
        }
    }

    /// <summary>What must be the same on both sides, or at least as good.</summary>
    private static IEnumerable<Finding> OfSides(RecoverySubject subject, Replica replica)
    {
        var (fleet, d) = (subject.Fleet, subject.Database);
        if (replica.HostAfter(Loss.None, fleet) is not { } there)
        {
            yield break;
        }

        var here = fleet.Hosts[d.Host];
        List<string> weaker = [];
        var differ = Sides.Differ(fleet, d, there);
        if (differ.Count > 0)
        {
            yield return Found(subject, "sides-differ", Urgency.Soon, $"{replica.Id} and its primary are not set up alike: {string.Join("; ", differ)}", "After taking over it may not open, or do other than its primary did", "Make both sides alike");
        }

        if (there.WriteBytesPerSecond < here.WriteBytesPerSecond)
        {
            weaker.Add($"it writes {Megabytes(there.WriteBytesPerSecond)} a second, {here.Id} {Megabytes(here.WriteBytesPerSecond)}");
        }

        if (there.Processors < here.Processors)
        {
            weaker.Add($"it has {there.Processors:0.##} processors, {here.Id} {here.Processors:0.##}");
        }

        if (replica.TakesOver != TakesOver.Never && weaker.Count > 0)
        {
            yield return Found(subject, "weaker-target", Urgency.Later, $"{there.Id}, where {replica.Id} lies, is weaker than {here.Id}: {string.Join("; ", weaker)}", "After taking over it may not carry the load", "Give it as much, or say what is left out then");
        }
    }

    /// <summary>What is seen of it.</summary>
    private static IEnumerable<Finding> OfState(RecoverySubject subject, ReplicaSource source, Instant at)
    {
        var replica = source.Replica;
        if (source.Lag.Count == 0)
        {
            yield return Found(subject, "nobody-watches", Urgency.Soon, $"Nothing was ever seen of {replica.Id}", "A replica that nobody watches counts for nothing here, and may be worth nothing", "Have a script send what it sees of it, from a place that is not lost with it");
            yield break;
        }

        if (source.Note.WatchedFrom is { } from && subject.Fleet.Hosts.TryGetValue(from, out var eye))
        {
            var host = subject.Fleet.Hosts[subject.Database.Host];
            Loss[] losses = [Loss.Of(host.Id), .. host.Array is { } a ? [Loss.Of(a)] : Array.Empty<Loss>(), Loss.Of(host.Site)];
            foreach (var loss in losses.Where(l => !l.Spares(eye) && replica.HostAfter(l, subject.Fleet) is not null).Take(1))
            {
                yield return Found(subject, "watched-from-its-loss", Urgency.Soon, $"{replica.Id} is watched from {from}, which the loss of {loss} takes as well", "On the day it is needed nobody sees how far it is", "Watch it from where that loss does not reach, best from a third site");
            }
        }

        if (source.At(at) is not { } known)
        {
            yield break;
        }

        var f = Watch.Of(subject, source, at, withSeed: false);
        switch (f.State)
        {
            case ReplicaState.Broken:
                yield return Found(subject, "replica-broken", Urgency.Now, $"{replica.Id} cannot go on: {f.WhyBroken}", "It will not catch up by itself, however long one waits", "Mend it by log or by a set, or seed it anew", f.ReceivedLagSeconds, known.ReceivedTo);
                break;
            // Between two looks nobody knows: that is no trouble before some of them have failed.
            case ReplicaState.CutOff when (at - known.Until).TotalSeconds > LooksBeforeTrouble * replica.WatchSeconds:
                yield return Found(subject, "replica-cut-off", Urgency.Soon, $"{replica.Id} has received nothing since {Instants.Write(known.Until)}",
                    f.ToleratedOutageSeconds is { } left ? $"In {PlainDuration.Of(left)} what it needs next is no longer kept" : "What it lacks grows with every minute", "Find what holds it up: link, host, room, or somebody's hand", f.ReceivedLagSeconds, known.Until);
                break;
            case ReplicaState.Behind:
                yield return Found(subject, "replica-behind", Urgency.Soon, $"{replica.Id} is {PlainDuration.Of(f.ReceivedLagSeconds!.Value)} behind",
                    $"That much would be lost if it took over now; {(f.CatchUpSeconds is { } c ? $"left alone it has caught up in {PlainDuration.Of(c)}" : "left alone it does not catch up")}", "Find what takes the link, or widen it", f.ReceivedLagSeconds);
                break;
        }

        var waits = (known.ReceivedTo - known.AppliedTo).TotalSeconds - replica.DelaySeconds;
        if (f.RoomSeconds is { } room && waits > ApplyStoppedSeconds && room < FillsWithinDays * 86_400)
        {
            var full = at + Duration.FromSeconds(Math.Round(room));
            yield return Found(subject, "log-room-fills", room < 86_400 ? Urgency.Now : Urgency.Soon, $"The log volume of {replica.Id} is full on {Instants.Write(full)}", "It receives and does not apply; with a full volume it can do neither", "Find what holds up its applying, or give it room", room, full);
        }

        if (!known.Covers && f.ToleratedOutageSeconds > 0
            && new KeptLog(subject.Database, replica, LogFlow.Of(subject.Database)).SecondsUntilPrimaryIsFull(at, f.ReceivedLagSeconds!.Value) is { } fills && fills < FillsWithinDays * 86_400)
        {
            var full = at + Duration.FromSeconds(Math.Round(fills));
            yield return Found(subject, "primary-log-fills", fills < 86_400 ? Urgency.Now : Urgency.Soon, $"The log volume of the primary is full on {Instants.Write(full)}, with log kept for {replica.Id}", "A full log volume stops its writes", "Bring the replica back, or give up the log kept for it", fills, full);
        }

        if (replica.Readable != ReplicaReadable.Never && known.Covers && f.AppliedLagSeconds > Math.Max(ReadersNoticeSeconds, 2 * (f.ReadByDesignSeconds ?? 0)))
        {
            yield return Found(subject, "readers-behind", Urgency.Later, $"What is read on {replica.Id} is {PlainDuration.Of(f.AppliedLagSeconds!.Value)} old",
                f.ReadByDesignSeconds is { } designed ? $"By design it would be {PlainDuration.Of(designed)}" : "Who reads there takes it for today", "Find what holds up its applying; tell its readers", f.AppliedLagSeconds);
        }
    }

    private static string Megabytes(double bytes) => $"{bytes / 1e6:#,0.#} MB";
}
