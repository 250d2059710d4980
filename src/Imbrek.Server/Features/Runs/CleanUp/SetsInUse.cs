using Imbrek.Core.Moves;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs.ApplyLog;
using Imbrek.Server.Features.Runs.Restore;
using Microsoft.EntityFrameworkCore;
using Npgsql;

namespace Imbrek.Server.Features.Runs.CleanUp;

/// <summary>The sets of a database that something lies on, or reads: those of a restore under way, also what it took itself, or of log that is applied to a copy, and of a copy that was opened where they lie, as long as it stands.</summary>
internal static class SetsInUse
{
    public static async Task<HashSet<string>> OfAsync(NpgsqlDataSource source, string database, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Runs.AsNoTracking().Where(r => r.Database == database && r.Claim != null && r.Steps != null).ToListAsync(cancel);
        return
        [
            .. rows.Where(r => (!r.StateIs.IsOver() && (r.Kind == ApplyLogKind.KindName || RestoreQuestion.Of(r) is not null)) || RestoreQuestion.Of(r) is { Mounted: true })
                .SelectMany(r => OfRun(r.ToRun())),
        ];
    }

    private static IEnumerable<string> OfRun(Run run) => run.Plan.Steps.SelectMany(RestoreAside.PiecesOf).Select(p => p.Set)
        .Concat(run.Plan.Steps.Where(s => s.Kind == LogRounds.Save).Select(s => TaskSteps.TakenBy(run, s.Number)).OfType<string>());
}
