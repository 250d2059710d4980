using Imbrek.Core.Runs;
using Imbrek.Data;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Runs;

/// <summary>Runs that somebody asks for: kept before anything is touched; they begin when a process takes them up.</summary>
internal static class NewRuns
{
    /// <summary>A run that waits.</summary>
    public static RunRow Row<T>(string kind, string database, string driver, T question, Run run, string who, Instant now) => new()
    {
        Id = Guid.CreateVersion7(),
        Kind = kind,
        Database = database,
        Driver = driver,
        Due = Instant.FromUnixTimeMilliseconds(now.ToUnixTimeMilliseconds()),
        State = (short)RunState.Waiting,
        AskedBy = who,
        Question = RunJson.Write(question),
        Steps = RunJson.WriteSteps(run),
        ExpectedSeconds = run.Plan.ExpectedSeconds,
    };

    /// <summary>Keeps a run; false when another run holds what it claims.</summary>
    public static async Task<bool> AddAsync(ImbrekContext data, RunRow run, CancellationToken cancel)
    {
        data.Runs.Add(run);
        try
        {
            await data.SaveChangesAsync(cancel);
            return true;
        }
        catch (DbUpdateException e) when (e.InnerException is PostgresException { ConstraintName: "ix_runs_claim" })
        {
            data.Entry(run).State = EntityState.Detached;
            return false;
        }
    }
}
