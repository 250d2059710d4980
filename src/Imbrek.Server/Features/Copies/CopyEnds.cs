using Imbrek.Core.Findings;
using Imbrek.Core.Formats;
using Imbrek.Core.Recovery;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.Removal;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Copies;

/// <summary>
/// Ends what has an end: tells its owner a day before, removes it on its day, or, where people do that, says so until they have. Whichever process looks, each is told once and removed once.
/// </summary>
internal sealed class CopyEnds(NpgsqlDataSource source, IServiceScopeFactory scopes, IClock clock, IHostApplicationLifetime life, ILogger<CopyEnds> log) : Looking(Often, "Copies that end are left alone for the moment", life, log), IFindingSource
{
    private const long ToldLock = 7_301_166;

    /// <summary>How long after a removal that failed another is tried.</summary>
    private static readonly Duration TriesAgain = Duration.FromMinutes(30);

    private volatile ILookup<string, (RunRow Run, RestoreQuestion Asked)> past = Array.Empty<(RunRow, RestoreQuestion)>().ToLookup(p => "");

    /// <inheritdoc/>
    public IEnumerable<Finding> Of(Core.Fleet.Database d, Instant at) =>
        past[d.Id.Value].Where(p => p.Run.Until <= at).Select(p => new Finding(
            "copy-past-its-end",
            d.Id,
            Urgency.Soon,
            $"A {p.Run.Kind} of it on {p.Asked.Host} is past its end, {Instants.Write(p.Run.Until!.Value)}",
            $"Its data lies open to {(p.Asked.Hosts is { Count: > 0 } hosts ? string.Join(", ", hosts) : "whoever looks")} with nobody's word that it may; {p.Run.AskedBy} had it made",
            "Remove it, or give it another end",
            null,
            p.Run.Until));

    /// <inheritdoc/>
    protected override async Task LookAsync(CancellationToken cancel)
    {
        var now = clock.GetCurrentInstant();
        await using var scope = scopes.CreateAsyncScope();
        var data = scope.ServiceProvider.GetRequiredService<ImbrekContext>();
        var soon = now + TemporaryCopy.ToldBefore;
        var rows = await data.Runs.AsNoTracking().Where(r => r.Until != null && r.Claim != null && r.Until <= soon && r.State >= (short)RunState.Done).ToListAsync(cancel);
        var found = rows.Select(r => (Run: r, Asked: RestoreQuestion.Of(r)!)).Where(f => f.Asked is not null && f.Run.Claim == f.Asked.Claim).ToArray();
        past = found.Where(f => f.Run.Until <= now).ToLookup(f => f.Run.Database);
        foreach (var (run, asked) in found)
        {
            if (run.Until > now)
            {
                await TellAsync(run, asked, "soon", $"A {run.Kind} of {run.Database} on {asked.Host} ends {Instants.Write(run.Until!.Value)}{(asked.Stays ? "; it is removed by people" : " and is removed then, with what was written to it")}", now, cancel);
            }
            else if (asked.Stays)
            {
                await TellAsync(run, asked, "past", $"A {run.Kind} of {run.Database} on {asked.Host} is past its end, and still there", now, cancel);
            }
            else
            {
                await RemoveAsync(run, scope.ServiceProvider, data, now, cancel);
            }
        }
    }

    private static async Task RemoveAsync(RunRow run, IServiceProvider services, ImbrekContext data, Instant now, CancellationToken cancel)
    {
        var tried = now - TriesAgain;
        var id = run.Id.ToString();
        if (!await data.Runs.AnyAsync(r => r.Kind == RemovalKind.KindName && r.Database == run.Database && r.Due > tried && EF.Functions.JsonContains(r.Question!, RunJson.Write(new { restored = id })), cancel))
        {
            await services.GetRequiredService<NewRuns>().TryBeginAsync(RemovalKind.Of(run, run.Driver!, "its end date", now), cancel);
        }
    }

    /// <summary>Tells the owner, once for each end.</summary>
    private async Task TellAsync(RunRow run, RestoreQuestion asked, string what, string subject, Instant now, CancellationToken cancel)
    {
        var key = $"copy|{run.Id}|{Instants.Write(run.Until!.Value)}|{what}";
        await using var data = ImbrekDatabase.Context(source);
        if (await data.Notices.AnyAsync(n => n.GroupKey == key, cancel))
        {
            return;
        }

        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await data.Database.ExecuteSqlAsync($"select pg_advisory_xact_lock({ToldLock})", cancel);
        if (!await data.Notices.AnyAsync(n => n.GroupKey == key, cancel))
        {
            data.Notices.Add(new NoticeRow { FirstAt = now, LastAt = now, GroupKey = key, Kind = "copy", People = [run.AskedBy ?? "plan"], Subject = subject, Count = 1, Databases = [run.Database] });
            await data.SaveChangesAsync(cancel);
            await transaction.CommitAsync(cancel);
        }
    }
}
