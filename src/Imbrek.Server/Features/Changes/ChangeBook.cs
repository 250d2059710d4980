using Imbrek.Core.Changes;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.Change;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Changes;

/// <summary>The changes that are kept, and what rehearsals of them measured.</summary>
internal sealed class ChangeBook(ImbrekContext data)
{
    /// <summary>How many changes may be kept, and how many rehearsals count.</summary>
    public const int Most = 500, MostRehearsals = 10;

    private const int MostRead = 500;

    /// <summary>A rehearsal that went through.</summary>
    /// <param name="Change">The name of the change.</param>
    /// <param name="Same">Whether it was of the change as it is now; an older script says nothing of this one.</param>
    public sealed record Rehearsed(Guid Run, string Change, string Database, Instant At, string Host, ChangeResult Result, bool Same);

    /// <summary>A change by its identifier.</summary>
    /// <exception cref="BadInputException">There is none.</exception>
    public async Task<(ChangeRow Row, Change Change)> FindAsync(string id, CancellationToken cancel)
    {
        var row = await data.Changes.AsNoTracking().SingleOrDefaultAsync(c => c.Id == id, cancel) ?? throw new BadInputException("id", $"there is no change '{InputBounds.Quote(id)}'", 404, "not-found");
        return (row, RunJson.Read<Change>(row.Body));
    }

    /// <summary>Rehearsals of changes, newest first.</summary>
    public async Task<IReadOnlyList<Rehearsed>> RehearsedAsync(IEnumerable<Change> changes, string? database, CancellationToken cancel)
    {
        // Of two that were written at once under one name one counts.
        var now = changes.DistinctBy(c => c.Name).ToDictionary(c => c.Name, RunJson.Write);
        var rows = await data.Runs.AsNoTracking().Where(r => r.Kind == RehearseChangeKind.KindName && r.State == (short)RunState.Done && r.Result != null && (database == null || r.Database == database))
            .OrderByDescending(r => r.Due).Take(MostRead).ToListAsync(cancel);
        return [.. rows.Select(r => (Row: r, Asked: RunJson.Read<RestoreQuestion>(r.Question!)))
            .Where(x => x.Asked.Change is { } c && now.ContainsKey(c.Name))
            .Select(x => new Rehearsed(x.Row.Id, x.Asked.Change!.Name, x.Row.Database, x.Row.Ended ?? x.Row.Due, x.Asked.Host, RunJson.Read<ChangeResult>(x.Row.Result!), RunJson.Write(x.Asked.Change!) == now[x.Asked.Change!.Name]))];
    }

    /// <summary>What rehearsals of a change on a database say of how long it takes; null without any.</summary>
    public async Task<(ChangeForecast? Forecast, IReadOnlyList<Rehearsed> Rehearsals)> ForecastAsync(Change change, string database, CancellationToken cancel)
    {
        var all = await RehearsedAsync([change], database, cancel);
        return (ChangeForecast.Of([.. all.Where(r => r.Same && r.Result.Parts.Count == change.Parts.Count).Take(MostRehearsals).Select(r => new ChangeForecast.Rehearsed([.. r.Result.Parts.Select(p => p.Seconds)], r.Result.Scale ?? 1))]), all);
    }
}
