using System.Text.Json.Nodes;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Replication;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.State;
using NodaTime;

namespace Imbrek.Server.Features.Runs.RestoreInPlace;

/// <summary>
/// A database is put back in place: a second person agrees, everybody is kept out, what it holds is saved, the path is restored beside it, checked and held; then it takes the place of what was there, on a branch of its
/// own, which is named in the fleet and gets its first base. Thrown away, called off or failed before that, all is as it was.
/// </summary>
internal sealed class RestoreInPlaceKind(Drivers drivers, FleetState fleet, FleetChanges changes, IClock clock) : RestoringKind(drivers, fleet, clock)
{
    public const string KindName = "restore-in-place";

    /// <summary>What it saves and what it takes at the end are calls of their own: each is made once, whoever asks again.</summary>
    private const int SavePart = 1, BasePart = 2;

    /// <inheritdoc/>
    public override IReadOnlyList<string> Names { get; } = [KindName];

    /// <summary>A run that puts a database back in place; put back, it can neither take over nor be drilled meanwhile.</summary>
    /// <param name="s">The database; its plans say where what it holds is saved.</param>
    /// <param name="path">The path, to its own host.</param>
    /// <param name="asked">What was asked.</param>
    /// <param name="driver">Whose database it is.</param>
    /// <param name="who">Who asks for it.</param>
    /// <param name="now">The instant.</param>
    public static RunRow Row(RecoverySubject s, RestorePath path, RestoreQuestion asked, string driver, string who, Instant now)
    {
        var d = s.Database;
        var steps = Core.Recovery.RestoreInPlace.Steps(d, path, asked.Instance, Core.Recovery.RestoreInPlace.Saves(s.Fleet, d)!, Promoting.FirstBaseOf(s.Fleet, d), now, asked.Before);
        var row = NewRuns.Row(KindName, d.Id.Value, driver, asked, Run.Of(new RunPlan(RestoreAside.CheckedWithin(steps, asked.CheckWithin))), who, now);
        row.Claim = TakeOverKind.ClaimOf(s.Fleet, d.Id);
        return row;
    }

    /// <inheritdoc/>
    public override async Task<StepResult> DoAsync(RunContext run, Step step, Action<double> progress, CancellationToken cancel)
    {
        var family = Drivers.Named(run.Row.Driver!);
        switch (step.Kind)
        {
            case "out":
                return new StepResult(await family.Fences.ShutOutAsync(run.Call, new(run.Row.Database), run.Row.AfterId, cancel));
            case "save" or "base":
                return await TaskSteps.TakeAsync(family.Backup, run.Call.Part(step.Kind == "save" ? SavePart : BasePart), step, cancel);
            case "place":
                var p = await family.Restore.PlaceAsync(run.Call, run.Question<RestoreQuestion>().Spec(run.Row.Database, run.Row.Id), cancel);
                return new StepResult($"branch {p.Branch.Id} begins at position {p.Branch.ForkPosition}", RunJson.Write(Promoted.Of(p)));
            case "name":
                return await NameAsync(run, PlacedIn(run.Run)!, cancel);
            case "let-in":
                await family.Fences.LetInAsync(run.Call, new(run.Row.Database), cancel);
                return new StepResult();
            default:
                return await base.DoAsync(run, step, progress, cancel);
        }
    }

    /// <inheritdoc/>
    public override Task UndoAsync(RunContext run, Step step, CancellationToken cancel) =>
        step.Kind == "out" ? Drivers.Named(run.Row.Driver!).Fences.LetInAsync(run.Call, new(run.Row.Database), cancel) : base.UndoAsync(run, step, cancel);

    /// <inheritdoc/>
    public override Conclusion Conclude(RunContext run, Ending end, Instant now)
    {
        var placed = PlacedIn(run.Run);
        return Conclude(
            run,
            end,
            placed is null ? "checked, then thrown away; it is as it was" : $"put back in place to {Instants.Write(Result(run)?.Reached ?? Instants.Parse(placed.Reached!))}; branch {placed.Branch} is the live one{(placed.Left.Count == 0 ? "" : $"; do not follow: {string.Join("; ", placed.Left)}")}",
            keepsClaim: false,
            now);
    }

    /// <summary>
    /// Names the branch in the fleet, once; the run knows better than who came before it by listening. Since everybody was kept out nothing was written, so what was saved last says all of the branch that was left: the new one is
    /// the live one from there on, and no instant lies between them.
    /// </summary>
    private async Task<StepResult> NameAsync(RunContext run, Promoted placed, CancellationToken cancel)
    {
        var (s, branch) = (Fleet[run.Row.Database].Subject, placed.ToBranch());
        var saved = s.Catalogue.Sets.Where(x => x.Kind == SetKind.Log && x.Branch != branch.Id && x.CoversTo <= branch.StartsAt).Select(x => x.CoversTo).DefaultIfEmpty(branch.StartsAt).Max();
        branch = branch with { StartsAt = Instant.Max(saved, branch.ForkAt) };
        if (!s.Database.Branches.Contains(branch))
        {
            var database = changes.Find("databases", run.Row.Database)!;
            FleetChanges.Name(database, branch);
            if (placed.Version is { } version)
            {
                database["version"] = version;
            }

            await changes.KeepAsync([FleetParts.Put("databases", run.Row.Database, database)], "it was put back in place", run.Row.AskedBy!, cancel);
        }

        return new StepResult(placed.Left.Count == 0 ? "all replicas follow" : $"do not follow: {string.Join("; ", placed.Left)}");
    }
}
