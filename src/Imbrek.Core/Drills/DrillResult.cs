using Imbrek.Core.Drivers;
using Imbrek.Core.Evidence;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Drills;

/// <summary>What a drill measured so far (section 11).</summary>
/// <param name="Changes">Its changes of roles: there, and home.</param>
/// <param name="Seen">What was seen on both sides, second by second.</param>
/// <param name="BothWritable">Times at which both sides took writes within one second.</param>
/// <param name="Passed">Whether every check passed and it was within what was agreed; null before there is anything to judge.</param>
/// <param name="Failed">What did not pass, each in a sentence.</param>
public sealed record DrillResult(IReadOnlyList<DrillResult.RoleChanged> Changes, IReadOnlyList<DrillSpan> Seen, int BothWritable, bool? Passed, IReadOnlyList<string> Failed)
{
    /// <summary>A change of roles.</summary>
    /// <param name="From">The host that took writes before.</param>
    /// <param name="To">The host that takes them after.</param>
    /// <param name="StoppedAt">When writes stopped, or the source was taken for lost.</param>
    /// <param name="BackAt">When a client's write through the usual address first succeeded after that; null before.</param>
    /// <param name="LostSeconds">What was lost, seconds; null before it was looked for.</param>
    /// <param name="Markers">Markers committed until writes stopped.</param>
    /// <param name="MarkersMissing">Those that are not on the new primary; null before they were looked for.</param>
    /// <param name="ServiceSeconds">From the stop until clients were back; null before.</param>
    /// <param name="PeopleSeconds">Of that, what people were waited for.</param>
    /// <param name="PlannedServiceSeconds">What was planned, people not counted.</param>
    /// <param name="PlannedLostSeconds">What was expected to be lost.</param>
    /// <param name="Checks">What was checked.</param>
    public sealed record RoleChanged(
        string From, string To, Instant StoppedAt, Instant? BackAt, double? LostSeconds, int Markers, int? MarkersMissing, double? ServiceSeconds, double PeopleSeconds, double? PlannedServiceSeconds, double PlannedLostSeconds, IReadOnlyList<CheckResult> Checks);

    /// <summary>What a stop measured, in the words of all steps, and what only it has.</summary>
    internal sealed record Stopped(double Seconds, long Bytes, string At, int Markers, string? LastMarker);

    /// <summary>How far a replica had received, in the words of all steps, and how far it had applied.</summary>
    public sealed record Received(double Seconds, long Bytes, string Reached, long? Position, string AppliedTo);

    internal sealed record Checked(double Seconds, long Bytes, IReadOnlyList<CheckResult> Checks, int MarkersPresent, string? LastMarker);

    internal sealed record Returned(double Seconds, long Bytes, string At);

    internal sealed record SeenAll(double Seconds, long Bytes, IReadOnlyList<DrillSpan> Seen);

    /// <summary>What a drill has measured so far, by what was seen and by nothing that was planned.</summary>
    /// <param name="run">Where it stands.</param>
    /// <param name="asked">What was asked.</param>
    public static DrillResult Of(Run run, DrillQuestion asked)
    {
        var seen = MeasuredBy<SeenAll>(run, "end", 0)?.Seen ?? [];
        var changes = new List<RoleChanged>();
        for (var phase = 0; StopIn(run, phase) is { } stop; phase++)
        {
            var stopped = Instants.Parse(stop.At);
            var (promoted, check, back) = (PromotedIn(run, phase), MeasuredBy<Checked>(run, "check", phase), MeasuredBy<Returned>(run, "back", phase));
            Instant? backAt = back is null ? null : Instants.Parse(back.At);
            var missing = check is null ? (int?)null : Math.Max(0, stop.Markers - check.MarkersPresent);

            // Of what was committed last on the new primary: its last change, or the last marker, whichever is later.
            double? lost = promoted is null || check is null ? null
                : missing == 0 && promoted.LostTransactions is null or 0 ? 0
                : Math.Max(0, (stopped - Instant.Max(Instants.Parse(promoted.Reached!), check.LastMarker is { } m ? Instants.Parse(m) : Instant.MinValue)).TotalSeconds);
            changes.Add(new(
                asked.In(phase).From,
                asked.In(phase).To,
                stopped,
                backAt,
                lost,
                stop.Markers,
                missing,
                backAt is { } b ? (b - stopped).TotalSeconds : null,
                PeopleSeconds(run, stopped, backAt),
                phase == 0 ? asked.PlannedServiceSeconds : null,
                phase == 0 ? asked.PlannedLostSeconds : 0,
                check?.Checks ?? []));
        }

        var both = new DrillTrail(seen).BothWritable;
        var failed = new List<string>();
        foreach (var c in changes.Where(c => c.BackAt is not null))
        {
            failed.AddRange(c.Checks.Where(x => !x.Passed).Select(x => $"{x.Name}: {x.Detail}"));
            if (c.LostSeconds > (asked.RpoSeconds ?? double.PositiveInfinity))
            {
                failed.Add($"it lost {PlainDuration.Beyond(c.LostSeconds!.Value, asked.RpoSeconds!.Value)}");
            }

            if (c.ServiceSeconds > (asked.RtoSeconds ?? double.PositiveInfinity))
            {
                failed.Add($"clients were back after {PlainDuration.Beyond(c.ServiceSeconds!.Value, asked.RtoSeconds!.Value)}");
            }
        }

        if (both > 0 && !failed.Any(f => f.StartsWith("one side writable", StringComparison.Ordinal)))
        {
            failed.Add($"both sides took writes in {both} seconds");
        }

        return new DrillResult(changes, seen, both, changes.Any(c => c.BackAt is not null) ? failed.Count == 0 : null, failed);
    }

    /// <summary>What it came to, in a sentence.</summary>
    public string InWords() => Passed == true ? $"passed: {(Changes.Count > 1 ? "there and home again, each " : "")}within what was agreed" : $"did not pass: {string.Join("; ", Failed)}";

    /// <summary>What it proves when it is over, and against which loss; null when no roles changed.</summary>
    /// <param name="asked">What was asked.</param>
    /// <param name="d">The database.</param>
    /// <param name="fleet">The fleet as it is now. The roles have changed since: what the loss took was where the database ran then.</param>
    /// <param name="now">When it is over.</param>
    public (Proof Proof, Loss Loss)? Proves(DrillQuestion asked, Database d, FleetModel fleet, Instant now)
    {
        if (Changes.Count == 0)
        {
            return null;
        }

        var loss = asked.Kind == DrillKind.Switchover ? Loss.None : Loss.Kept(asked.Loss, fleet);
        return (new Proof(now, Changes.Max(c => c.LostSeconds ?? 0), Changes.Max(c => c.ServiceSeconds ?? 0), Passed == true, d.SizeBytes, d.Version, loss.Kind, TookOver: true), loss);
    }

    /// <summary>Within a change of roles, the seconds in which only people were waited for.</summary>
    private static double PeopleSeconds(Run run, Instant from, Instant? to) => to is null ? 0 : run.Plan.Steps.Where(s => s.IsHold)
        .Select(s => run[s.Number]).Where(p => p is { StartedAt: not null, EndedAt: not null })
        .Sum(p => Math.Max(0, (Instant.Min(to.Value, p.EndedAt!.Value) - Instant.Max(from, p.StartedAt!.Value)).TotalSeconds));

    /// <summary>How far it had received when its source was taken for lost; null before that was looked at.</summary>
    public static Received? ReceivedIn(Run run) => MeasuredBy<Received>(run, "received", 0);

    /// <summary>The instant at which those of its group have agreed to stop; null when they have not, or need not.</summary>
    public static Instant? AgreedIn(Run run) => MeasuredBy<RestoreAside.Measured>(run, "agree", 0)?.Reached is { } reached ? Instants.Parse(reached) : null;

    internal static Stopped? StopIn(Run run, int phase) => MeasuredBy<Stopped>(run, "stop", phase);

    internal static Instant? StoppedIn(Run run, int phase) => StopIn(run, phase) is { } s ? Instants.Parse(s.At) : null;

    /// <summary>What a promotion measured in a phase of a drill; null before.</summary>
    public static Promoted? PromotedIn(Run run, int phase) => MeasuredBy<Promoted>(run, "promote", phase);

    private static T? MeasuredBy<T>(Run run, string kind, int phase)
        where T : class =>
        run.Plan.Steps.Where(s => s.Kind == kind && RoleChange.PhaseOf(s) == phase).Select(s => run[s.Number].Measured).FirstOrDefault(m => m is not null) is { } measured ? RunJson.Read<T>(measured) : null;
}
