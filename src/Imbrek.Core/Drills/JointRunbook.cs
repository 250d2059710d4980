using Imbrek.Core.Fleet;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;

namespace Imbrek.Core.Drills;

/// <summary>
/// The runbook of a drill of many (section 11): of a group, a service or a site. Each database whose roles change has a drill of its own, with its own runbook, proof and page; this one begins them, keeps them in
/// step and asks people once for all. What comes back from sets is restored aside in the order given, as many at once on a host as it has slots; of a restore test that is all there is.
/// </summary>
public static class JointRunbook
{
    /// <summary>The most databases of one drill.</summary>
    public const int MostMembers = 100;

    private const double BeginSeconds = 2, ReadySeconds = 65, TogetherSeconds = 3, LimitFactor = 20, ShortestLimitSeconds = 3600, LongestSeconds = 7 * 86_400;

    /// <summary>A database of it.</summary>
    /// <param name="Database">The database.</param>
    /// <param name="Replica">The replica that becomes the primary; null where sets are restored.</param>
    /// <param name="Host">The host it comes back on.</param>
    /// <param name="LostSeconds">What is expected to be lost.</param>
    /// <param name="Seconds">How long its own way is expected to take, without people.</param>
    public sealed record Member(Id<Database> Database, Id<Replica>? Replica, Id<Host> Host, double LostSeconds, double Seconds);

    /// <summary>What is asked for.</summary>
    /// <param name="Of">What it is held on, in words: group crew, site Quayside.</param>
    /// <param name="Kind">Restore test: all are restored aside; switchover; forced: the source is taken for lost; or automatic: all engines are stopped, and nobody helps.</param>
    /// <param name="Ending">How it ends.</param>
    /// <param name="Members">The databases, in the order in which they go first.</param>
    /// <param name="Slots">How many restores a host carries at once.</param>
    public sealed record Ask(string Of, DrillKind Kind, DrillEnding Ending, IReadOnlyList<Member> Members, Func<Id<Host>, int> Slots);

    /// <summary>The steps.</summary>
    /// <exception cref="ArgumentException">No database, too many, a kind that is not held on many, one that is to take over by itself and has no replica, or a restore test in which roles change.</exception>
    public static RunPlan Of(Ask ask)
    {
        var byThemselves = ask.Kind == DrillKind.Automatic;
        if (ask.Members.Count is 0 or > MostMembers
            || ask.Kind is not (DrillKind.RestoreTest or DrillKind.Switchover or DrillKind.Forced or DrillKind.Automatic)
            || (byThemselves && ask.Members.Any(m => m.Replica is null))
            || (ask.Kind == DrillKind.RestoreTest && ask.Members.Any(m => m.Replica is not null)))
        {
            throw new ArgumentException($"1 to {MostMembers} databases that are restored aside, switched over, or whose primaries are taken for lost", nameof(ask));
        }

        var steps = new List<Step>();
        var forced = ask.Kind == DrillKind.Forced;
        var roles = Enumerable.Range(0, ask.Members.Count).Where(i => ask.Members[i].Replica is not null).ToArray();
        var longest = ask.Members.Where(m => m.Replica is not null).Select(m => m.Seconds).DefaultIfEmpty().Max();
        int[] begun = [.. roles.Select(i => Add("begin", $"Begin the drill of {ask.Members[i].Database}, to {ask.Members[i].Replica} on {ask.Members[i].Host}", ask.Members[i].Database.Value, [], BeginSeconds, i, Undo.Own))];
        int[] last = begun.Length == 0 ? [] : [Add("ready", "All have been tried and write markers", ask.Of, begun, ReadySeconds)];
        if (roles.Length > 0)
        {
            last = [Hold("tell", $"Everybody who must know has been told: nobody can write to {Databases(roles.Length)} for about {PlainDuration.Of(longest)}", last, [DrillRunbook.Told])];
        }

        if (forced)
        {
            var lost = ask.Members.Max(m => m.LostSeconds);
            last = [Add("agree", $"Take {ask.Of} for lost: {Databases(ask.Members.Count)}{(lost > 0 ? $", of one of them up to {PlainDuration.Of(lost)}" : "")}", ask.Of, last, 0, approval: lost > 0)];
        }

        // What is restored begins when the source is lost; beside it roles change.
        var taken = last;
        var restored = new List<int>();
        var aside = ask.Members.Select((m, i) => (Member: m, Number: i)).Where(x => x.Member.Replica is null).ToArray();
        var turns = InTurn.After([.. aside.Select(x => x.Member.Host)], ask.Slots);
        foreach (var ((m, i), frees) in aside.Zip(turns))
        {
            restored.Add(Add("restore", $"Restore {m.Database} aside on {m.Host}, from sets that are left", m.Database.Value, frees is { } before ? [.. taken, restored[before]] : taken, m.Seconds, i, Undo.Own));
        }

        if (roles.Length > 0)
        {
            last = [Add("go", byThemselves ? "All engines are stopped, and nobody helps: replicas take over, and clients come back by themselves" : "All stop and change roles", ask.Of, taken, longest, noWayBack: true)];
            if (!byThemselves)
            {
                last = [Hold("send", "What is open looks right: send clients over, of all", last, [DrillRunbook.Send])];
                last = [Add("sent", ask.Ending == DrillEnding.Keep ? "Clients are sent over; the old sides follow" : "Clients are sent over", ask.Of, last, TogetherSeconds)];
            }

            if (ask.Ending == DrillEnding.Home)
            {
                var home = Hold("home", "Go home, or stay", last, [DrillRunbook.GoHome, DrillRunbook.Stay]);
                var there = Add("stay", "All stay where they are", ask.Of, [home], TogetherSeconds, only: new(home, DrillRunbook.Stay));
                var back = Add("back", "All stop and change roles again", ask.Of, [home], longest, only: new(home, DrillRunbook.GoHome));
                var send = Hold("send", "What is open looks right: send clients home, of all", [back], [DrillRunbook.Send], new(home, DrillRunbook.GoHome));
                var sent = Add("sent", "Clients are sent home", ask.Of, [send], TogetherSeconds, only: new(home, DrillRunbook.GoHome));
                last = [there, sent];
            }
        }

        Add("end", "All are over; what was measured is put together", ask.Of, [.. last, .. restored], 1);
        return new RunPlan(steps);

        int Add(string kind, string title, string about, int[] after, double seconds, int? member = null, Undo undo = Undo.Nothing, bool approval = false, bool noWayBack = false, Step.Guard? only = null)
        {
            steps.Add(new Step
            {
                Number = steps.Count + 1,
                Kind = kind,
                Title = title,
                Subject = about,
                After = after,
                Only = only,
                ExpectedSeconds = seconds,
                ExpectedFrom = "profile",
                NeedsApproval = approval,
                DecideWithinSeconds = approval ? Step.ApprovalSeconds : null,
                Owner = approval ? DrillRunbook.SecondPerson : Step.Product,
                Undo = undo,
                NoWayBack = noWayBack,
                Attempts = 3,
                BackOffSeconds = 2,
                TimeLimitSeconds = kind is "begin" or "agree" ? Math.Max(ShortestLimitSeconds, LimitFactor * seconds) : LongestSeconds,
                Work = member is null ? "{}" : $$"""{"member":{{member}}}""",
            });
            return steps.Count;
        }

        int Hold(string kind, string title, int[] after, string[] choices, Step.Guard? only = null)
        {
            steps.Add(new Step { Number = steps.Count + 1, Kind = kind, Title = title, After = after, Only = only, Choices = choices, Owner = DrillRunbook.Hands });
            return steps.Count;
        }
    }

    private static string Databases(int n) => n == 1 ? "1 database" : $"{n} databases";
}
