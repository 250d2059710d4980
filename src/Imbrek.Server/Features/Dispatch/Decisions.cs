using Imbrek.Core.Notices;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Notices;
using Imbrek.Server.Features.Runs;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Dispatch;

/// <summary>What was decided and is not kept yet: how runs stand, which start, which stand out. All of it is kept in one transaction, or forgotten: it did not happen then.</summary>
internal sealed class Decisions
{
    private readonly List<TaskRun> told = [];
    private readonly List<(Occurrence Run, RunRow Row)> starts = [];
    private readonly List<(Guid Run, string Oddity)> odd = [];

    /// <summary>Whether there is anything to keep.</summary>
    public bool Any => told.Count + starts.Count + odd.Count > 0;

    /// <summary>The runs that start, as they are kept.</summary>
    public IEnumerable<RunRow> Starts => starts.Select(s => s.Row);

    /// <summary>How the runs stand that do not start, each as it was told last.</summary>
    public IEnumerable<TaskRun> Told => told.GroupBy(r => r.Id).Select(g => g.Last());

    /// <summary>A run stands so.</summary>
    public void Tell(TaskRun run) => told.Add(run);

    /// <summary>A run starts.</summary>
    public void Start(Occurrence run, RunRow row) => starts.Add((run, row));

    /// <summary>A run starts no more; false when it was not about to.</summary>
    public bool Withdraw(Guid run) => starts.RemoveAll(s => s.Run.Id == run) > 0;

    /// <summary>A run that is over stands out among its like.</summary>
    public void StandsOut(Guid run, string oddity) => odd.Add((run, oddity));

    /// <summary>Nothing was decided.</summary>
    public void Forget()
    {
        told.Clear();
        starts.Clear();
        odd.Clear();
    }

    /// <summary>Keeps everything at <paramref name="now"/>, together with <paramref name="notices"/>, as decided up to <paramref name="decidedTo"/>; a failure leaves it as it is.</summary>
    /// <returns>How each run stands now that was decided on: those told of, then those that start.</returns>
    /// <exception cref="DispatchLead.LostException">Another process may lead; nothing was kept, or nobody can say.</exception>
    public async Task<(TaskRun[] Told, TaskRun[] Started)> KeepAsync(
        NpgsqlDataSource source, DispatchLead lead, NoticeTable table, NoticeBook notices, Instant now, Instant decidedTo, CancellationToken cancel)
    {
        TaskRun[] runs = [.. Told];
        await using (var connection = await source.OpenConnectionAsync(cancel))
        await using (var transaction = await connection.BeginTransactionAsync(cancel))
        {
            await RunTable.UpsertAsync(connection, runs, cancel);
            await RunTable.StartAsync(connection, [.. Starts], RunStore.LeaseSeconds, cancel);
            await RunTable.SetOdditiesAsync(connection, odd, cancel);
            await using var data = await ImbrekDatabase.WithinAsync(source, transaction, cancel);
            data.RunLines.AddRange(runs.Where(r => r.Note is not null && (r.AskedBy is not null || r.State == RunState.Failed)).Select(r => new RunLineRow { RunId = r.Id, At = now, Text = r.Note! }));
            if (data.ChangeTracker.HasChanges())
            {
                await data.SaveChangesAsync(cancel);
            }

            await table.WriteAsync(notices, data, cancel);
            await lead.GuardAsync(connection, decidedTo, cancel);
            try
            {
                await transaction.CommitAsync(cancel);
            }
            catch (Exception e) when (e is NpgsqlException or IOException or InvalidOperationException)
            {
                // Whether it was kept nobody can say now; what is kept is read again before anything is written a second time.
                throw new DispatchLead.LostException(e);
            }
        }

        // Kept: from here on nothing that fails may have it written again.
        TaskRun[] started = [.. starts.Select(s => s.Run.ToRun(RunState.Running, null, s.Row.Started!.Value))];
        Forget();
        notices.Kept();
        return (runs, started);
    }
}
