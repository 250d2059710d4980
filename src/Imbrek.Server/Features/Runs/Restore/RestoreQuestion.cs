using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Change;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Features.Runs.Rehearsal;
using Imbrek.Server.Features.Runs.RestoreInPlace;
using Imbrek.Server.Features.Runs.SecondDatabase;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Restore;

/// <summary>What a restore was asked for, and what was promised; kept with the run.</summary>
/// <param name="Loss">The loss supposed.</param>
/// <param name="Target">The instant wanted.</param>
/// <param name="At">The instant at which the loss was supposed; null for now.</param>
/// <param name="Query">A query of the administrator's own; null for none.</param>
/// <param name="Without">A store that nothing is read from; null for none.</param>
/// <param name="Host">Where it is restored.</param>
/// <param name="Instance">The name of the instance.</param>
/// <param name="Planned">What was promised.</param>
/// <param name="Before">The log position it stops before, exactly; null for the instant wanted.</param>
/// <param name="Mounted">Whether its sets are opened where they lie.</param>
/// <param name="Hosts">Of a copy that ends: who is let in; null for others.</param>
/// <param name="Mask">Of a clone: the statements that mask it; null for none.</param>
/// <param name="Stays">Of a copy that ends: whether its end is told of, and people remove it.</param>
/// <param name="Change">Of a rehearsal of a change: the change; null for others.</param>
/// <param name="EverySeconds">Of what is left open for log: how often log is applied; of a clone: how often it is refreshed; null for by hand, or never.</param>
/// <param name="On">Of a run on what another made: that other run, and which of those on it this is; null for what it makes itself.</param>
/// <param name="CheckWithin">Seconds its checks may take; null for as long as they need.</param>
/// <param name="Settings">When settings of its host are changed that it needs, as it was answered; null where nobody was asked: at once.</param>
internal sealed record RestoreQuestion(string Loss, Instant Target, Instant? At, string? Query, string? Without, string Host, string Instance, RestoreQuestion.Promise Planned, long? Before = null, bool Mounted = false, IReadOnlyList<string>? Hosts = null, IReadOnlyList<string>? Mask = null, bool Stays = false, Core.Changes.Change? Change = null, double? EverySeconds = null, RestoreQuestion.MadeBy? On = null, double? CheckWithin = null, string? Settings = null)
{
    private const int LongestInstance = 30;

    /// <summary>What a path promised.</summary>
    /// <param name="Reaches">The instant it reaches.</param>
    /// <param name="LostSeconds">Target − reached, seconds.</param>
    /// <param name="Seconds">Until it is open.</param>
    /// <param name="ServiceSeconds">Until the service is back.</param>
    /// <param name="Source">Where the seconds are from: the profile, or learned from finished runs.</param>
    public sealed record Promise(Instant Reaches, double LostSeconds, double Seconds, double ServiceSeconds, string Source)
    {
        public static Promise Of(RestorePath path) => new(path.Reaches, path.LostSeconds, path.Seconds, path.ServiceSeconds, path.UsesLearned ? "learned" : "profile");
    }

    /// <summary>The run that made an instance, and which of the runs on that this is, from 1.</summary>
    public sealed record MadeBy(Guid Run, long Round)
    {
        /// <summary>So many times may a run be taken up before its fences could meet those of the next.</summary>
        private const long FencesPerRound = 1_000_000;

        /// <summary>What calls for the instance carry: it belongs to the run that made it, which has ended; those on it come one after another.</summary>
        public RunCall Call(RunCall own) => new(Run, (FencesPerRound * Round) + own.Fence);
    }

    /// <summary>What calls for its instance carry.</summary>
    public RunCall Call(RunContext run) => On?.Call(run.Call) ?? run.Call;

    /// <summary>The instance, for its driver.</summary>
    public InstanceSpec Spec(RunContext run) => Spec(run.Row.Database, On?.Run ?? run.Row.Id);

    /// <summary>What it claims: nobody else restores to it meanwhile.</summary>
    public string Claim => ClaimOf(Host, Instance);

    /// <summary>The instance, for its driver.</summary>
    public InstanceSpec Spec(string database, Guid owner) => new(Instance, new Id<Core.Fleet.Database>(database), new(Host), owner, Mounted);

    /// <summary>A restore to the newest instant that is checked, measured and thrown away without anybody being asked.</summary>
    /// <param name="d">The database.</param>
    /// <param name="path">Its way back.</param>
    /// <param name="loss">The loss supposed.</param>
    /// <param name="at">The instant wanted.</param>
    /// <param name="instance">The name of the instance; what is too long of it is cut off.</param>
    public static (RestoreQuestion Question, Run Run) Rehearsed(Core.Fleet.Database d, RestorePath path, Loss loss, Instant at, string instance)
    {
        var asked = new RestoreQuestion(loss.ToString(), at, null, null, null, path.Host.Value, instance[..Math.Min(LongestInstance, instance.Length)], Promise.Of(path));
        return (asked, Run.Of(new RunPlan(RestoreAside.Steps(d, path, asked.Instance, held: false))));
    }

    /// <summary>The loss supposed.</summary>
    public Loss LossOf(FleetModel fleet) => Core.Objectives.Loss.Kept(Loss, fleet);

    /// <summary>What a run was asked for; null for one that restores nothing.</summary>
    public static RestoreQuestion? Of(RunRow run) => run.Question is not { } question ? null
        : Moving.Is(run.Kind) || run.Kind == SecondDatabaseKind.KindName ? RunJson.Read<Containing>(question).Restore
        : run.Kind is RestoreKind.KindName or RestoreInPlaceKind.KindName or RehearsalKind.KindName or RehearseChangeKind.KindName or TemporaryCopyKind.View or TemporaryCopyKind.Clone or TemporaryCopyKind.LeftOpen or TemporaryCopyKind.Refresh
            || run.Kind == PlanFile.Name(TaskKind.TestRestore) ? RunJson.Read<RestoreQuestion>(question)
        : null;

    /// <summary>The question of a kind that restores on the way to something else.</summary>
    private sealed record Containing(RestoreQuestion Restore);

    public static string ClaimOf(string host, string instance) => $"{host}/{instance}";

    /// <summary>What a run on an instance that stands claims: log is applied to it, it is refreshed, or it is removed, one at a time.</summary>
    public static string BusyOf(string claim) => $"{claim}/busy";
}
