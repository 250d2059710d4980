using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Runs;

/// <summary>Runs that somebody asks for: kept before anything is touched; they begin when a process takes them up.</summary>
internal sealed class NewRuns(ImbrekContext data, RunWorker worker, Peers peers)
{
    /// <summary>A run that waits.</summary>
    public static RunRow Row<T>(string kind, string database, string driver, T question, Run run, string who, Instant now) => new()
    {
        Id = Guid.CreateVersion7(),
        Kind = kind,
        Database = database,
        Driver = driver,
        Due = Instants.Floor(now),
        State = (short)RunState.Waiting,
        AskedBy = who,
        Question = RunJson.Write(question),
        Steps = RunJson.WriteSteps(run),
        ExpectedSeconds = run.Plan.ExpectedSeconds,
    };

    /// <summary>Keeps a run and has it begun.</summary>
    /// <exception cref="BadInputException">Another run holds what it claims.</exception>
    public async Task BeginAsync(RunRow run, CancellationToken cancel)
    {
        if (!await TryBeginAsync(run, cancel))
        {
            var other = await data.Runs.AsNoTracking().SingleOrDefaultAsync(r => r.Claim == run.Claim, cancel);
            throw new BadInputException("id", $"{other?.AskedBy ?? "somebody"} is already at it: {other?.Kind ?? "a run"} is under way", 409, "target-taken");
        }
    }

    /// <summary>Keeps a run and has it begun; false when another run holds what it claims.</summary>
    public Task<bool> TryBeginAsync(RunRow run, CancellationToken cancel) => TryBeginAsync([run], cancel);

    /// <summary>Keeps runs and has them begun, all or none; false when another run holds what one of them claims.</summary>
    public async Task<bool> TryBeginAsync(IReadOnlyList<RunRow> runs, CancellationToken cancel)
    {
        if (!await AddAsync(data, runs, cancel))
        {
            return false;
        }

        Guid[] ids = [.. runs.Select(r => r.Id)];
        worker.Wake(ids);
        await peers.TellAsync([], ids, cancel);
        return true;
    }

    /// <summary>Keeps a run; false when another run holds what it claims.</summary>
    public static Task<bool> AddAsync(ImbrekContext data, RunRow run, CancellationToken cancel) => AddAsync(data, [run], cancel);

    private static async Task<bool> AddAsync(ImbrekContext data, IReadOnlyList<RunRow> runs, CancellationToken cancel)
    {
        data.Runs.AddRange(runs);
        try
        {
            await data.SaveChangesAsync(cancel);
            return true;
        }
        catch (DbUpdateException e) when (e.InnerException is PostgresException { ConstraintName: "ix_runs_claim" })
        {
            foreach (var run in runs)
            {
                data.Entry(run).State = EntityState.Detached;
            }

            return false;
        }
    }
}
