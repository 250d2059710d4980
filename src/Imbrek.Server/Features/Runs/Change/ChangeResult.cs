using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Runs;
using Imbrek.Server.Features.Runs.Restore;
using NodaTime;

namespace Imbrek.Server.Features.Runs.Change;

/// <summary>What a rehearsal of a change, or a change day, measured; nothing in it comes from the plan.</summary>
/// <param name="Parts">What its parts took, in order, as far as they were carried out.</param>
/// <param name="Before">What was seen before; null until it was.</param>
/// <param name="After">What was seen after; null until it was.</param>
/// <param name="Differences">What is different, what broke first.</param>
/// <param name="Scale">How many times as long the database's own host takes for what was done on the host of a copy; null on a change day.</param>
/// <param name="OutSeconds">For how long everybody was kept out; null where nobody was, or still is.</param>
/// <param name="Watched">What was seen when it had been watched; null until then.</param>
/// <param name="Slower">What of that is different from before.</param>
/// <param name="Branch">The branch that a move to another version began: sets taken before are of the version before, and bring back instants up to then alone.</param>
/// <param name="Left">Replicas that no longer follow.</param>
/// <param name="Restore">What restoring the copy measured; null on a change day.</param>
internal sealed record ChangeResult(
    IReadOnlyList<ChangePartTook> Parts,
    ChangeLook? Before,
    ChangeLook? After,
    IReadOnlyList<Difference> Differences,
    double? Scale,
    double? OutSeconds,
    ChangeLook? Watched,
    IReadOnlyList<Difference> Slower,
    ChangeBranch? Branch,
    IReadOnlyList<string> Left,
    RestoreResult? Restore)
{
    /// <summary>Seconds of its parts together.</summary>
    public double Seconds => Parts.Sum(p => p.Seconds);

    /// <summary>What they would take on the database's own host.</summary>
    public double OwnSeconds => Seconds * (Scale ?? 1);

    /// <summary>Whether it ran on a host of another speed.</summary>
    public bool Scaled => Scale is { } s && ChangeForecast.IsOtherSpeed(s);

    /// <summary>How much broke or became slow, on the day itself or while it was watched.</summary>
    public int Broke => Differences.Concat(Slower).Where(d => d.Broke).DistinctBy(d => d.What).Count();

    /// <summary>Reads it off the steps.</summary>
    /// <param name="run">The run.</param>
    /// <param name="change">The change.</param>
    /// <param name="scale">See <see cref="Scale"/>.</param>
    /// <param name="restore">See <see cref="Restore"/>.</param>
    public static ChangeResult Of(Run run, Core.Changes.Change change, double? scale, RestoreResult? restore)
    {
        var parts = run.Plan.Steps.Where(s => s.Kind == ChangeSteps.Part && run[s.Number].Measured is not null && run[s.Number].EndedAt is not null)
            .Select(s => (At: RunJson.Read<ChangeSteps.PartWork>(s.Work).Number, Done: RunJson.Read<PartDone>(run[s.Number].Measured!))).DistinctBy(p => p.At).ToArray();
        var (before, after, watched) = (Look(ChangeSteps.Before), Look(ChangeSteps.After), Look(ChangeSteps.Watch));
        var moved = parts.Select(p => p.Done).FirstOrDefault(p => p.Branch is not null);
        var (wentOut, cameIn) = (EndOf("out"), EndOf("let-in"));
        return new(
            [.. parts.Select(p => new ChangePartTook(change.Parts[p.At - 1].Name, p.Done.Seconds, p.Done.Statements))],
            before,
            after,
            before is null || after is null ? [] : LookComparison.Of(before, after, others: restore is null && !change.IsOutage),
            scale,
            (cameIn - wentOut)?.TotalSeconds,
            watched,
            before is null || watched is null ? [] : LookComparison.Of(before, watched, others: true),
            moved is { Branch: { } branch, Version: { } version } ? new(branch.Id, branch.StartsAt, version) : null,
            [.. parts.SelectMany(p => p.Done.Left ?? [])],
            restore);

        ChangeLook? Look(string kind) => run.Plan.Steps.Where(s => s.Kind == kind).Select(s => run[s.Number].Measured).OfType<string>().Select(RunJson.Read<ChangeLook>).LastOrDefault();
        Instant? EndOf(string kind) => run.Plan.Steps.Where(s => s.Kind == kind && run[s.Number].State == StepState.Done).Select(s => run[s.Number].EndedAt).Max();
    }

    /// <summary>What looking or a part said, for its step.</summary>
    public static StepResult Said(ChangeLook look) =>
        new(look.Queries.Count(q => q.Error is not null) is > 0 and var bad ? $"{bad} of {look.Queries.Count} queries failed" : look.Queries.Count == 0 ? null : $"the slowest of {look.Queries.Count} took {look.Queries.Max(q => q.Seconds):0.###} s", RunJson.Write(look));

    /// <summary>What a part said, for its step.</summary>
    public static StepResult Said(PartDone part) => new(part.Version is { } v ? $"it runs version {v}" : part.Statements.Count == 0 ? null : part.Statements[^1].Said, RunJson.Write(part));
}

/// <summary>A part that was carried out.</summary>
internal sealed record ChangePartTook(string Name, double Seconds, IReadOnlyList<StatementTook> Statements);

/// <summary>The branch that a move to another version began.</summary>
internal sealed record ChangeBranch(int Id, Instant StartsAt, string Version);
