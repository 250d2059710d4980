using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>
/// A database put back in place (ways, section 4): everybody is kept out, what it holds is saved first and stays a way back, the path is restored beside it on its own host, checked and held; then it takes the place of
/// what was there, and a new branch begins. Until then all can be taken back.
/// </summary>
public static class RestoreInPlace
{
    /// <summary>What people choose at the hold to have it take the place of what is there.</summary>
    public const string Place = "put-in-place";

    /// <summary>Seconds to stop writes and withdraw the right to write.</summary>
    private const double OutSeconds = 2;

    /// <summary>What is taken of the database before it is put back, so that even its last minute can be had back: the log not yet backed up, or a full outside the chain where no log is backed up.</summary>
    /// <returns>Null when no plan says where it would go.</returns>
    public static TakeSpec? Saves(FleetModel fleet, Database database)
    {
        var tasks = fleet.PlansOf(database).SelectMany(p => p.Tasks).ToArray();
        return database.LogMode == LogMode.Kept && tasks.FirstOrDefault(t => t.Kind == TaskKind.Log) is { } log ? TakeSpec.Of(log, database.Id)
            : Promoting.FirstBaseOf(fleet, database) is { } full ? TakeSpec.Of(full, database.Id) with { OutsideChain = true }
            : null;
    }

    /// <summary>The steps.</summary>
    /// <param name="database">The database.</param>
    /// <param name="path">The path, to its own host.</param>
    /// <param name="instance">The name of the instance that is restored beside it.</param>
    /// <param name="saves">What is taken of it first.</param>
    /// <param name="first">The task by which the first base of the new branch is taken; null for none.</param>
    /// <param name="now">When it is asked for.</param>
    /// <param name="before">The log position it stops before, exactly; null for the instant the path reaches.</param>
    public static IReadOnlyList<Step> Steps(Database database, RestorePath path, string instance, TakeSpec saves, PlanTask? first, Instant now, long? before = null)
    {
        var host = path.Host.Value;
        var leaves = PlainDuration.Of((now - path.Reaches).TotalSeconds);
        var keepOut = RestoreAside.Last(1, "out", $"Keep everybody out of {database.Name}: it is put back to {Instants.Write(path.Reaches)}, and the {leaves} since then are not in it afterwards, but saved", host, []) with
        {
            NeedsApproval = true,
            DecideWithinSeconds = Step.ApprovalSeconds,
            Owner = "approve",
            Undo = Undo.Own,
            RetryRefusals = false,
            ExpectedSeconds = OutSeconds,
            ExpectedFrom = "profile",
        };
        var save = RestoreAside.Last(2, "save", $"Save what it holds: {(saves.OutsideChain ? $"a {saves.Kind.ToString().ToLowerInvariant()} outside the chain" : "the log not yet backed up")}, into {saves.Store}", saves.Store, [1]) with
        {
            TimeLimitSeconds = 86_400,
            RetryRefusals = false,
            Work = RunJson.Write(saves),
        };
        var ready = RestoreAside.Ready(database, path, instance, 2, before);
        var (check, hold) = (ready[^1].Number, ready[^1].Number + 1);
        var place = RestoreAside.Last(hold + 1, "place", "Put it in the place of what is there, and let clients in", host, [hold], new(hold, Place)) with { ExpectedSeconds = database.RedirectSeconds, ExpectedFrom = "fleet", NoWayBack = true };
        var name = RestoreAside.Last(hold + 2, "name", "Name the new branch in the fleet; replicas that hold more no longer follow, and are named", host, [hold + 1], new(hold, Place));
        var discard = RestoreAside.Last(hold + 3, "discard", "Throw away what was restored", host, [hold], new(hold, RestoreAside.ThrowAway));
        var letIn = RestoreAside.Last(hold + 4, "let-in", "Let everybody in again: it is as it was", host, [hold + 3], new(hold, RestoreAside.ThrowAway));
        var steps = new List<Step> { keepOut, save };
        steps.AddRange([.. ready, RestoreAside.Held(hold, check, [Place, RestoreAside.ThrowAway]), place, name, discard, letIn]);
        if (first is not null)
        {
            steps.Add(RestoreAside.FirstBase(hold + 5, hold + 2, "the new branch", first, database.Id, new(hold, Place)));
        }

        return steps;
    }
}
