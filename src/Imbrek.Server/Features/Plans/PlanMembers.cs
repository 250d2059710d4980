using Imbrek.Core.Fleet;
using Imbrek.Data;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Live;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Plans;

/// <summary>Has plans name a database that a run has made: a version of its own, in the name of who asked for that run.</summary>
internal sealed class PlanMembers(FleetState fleet, NpgsqlDataSource source, IServiceProvider services, IClock clock)
{
    private const int MostTries = 5;

    /// <summary>A plan names a database, unless it catches it already.</summary>
    public async Task AddAsync(string plan, Id<Core.Fleet.Database> database, string who, CancellationToken cancel)
    {
        // Somebody may save it in the same moment: then what they saved is changed.
        for (var tries = 0; tries < MostTries; tries++)
        {
            if (fleet.Fleet.Plans.FirstOrDefault(p => p.Id.Value == plan) is not { } now || (fleet.Has(database.Value) && now.Members.Catches(fleet[database].Subject.Database)))
            {
                return;
            }

            await using (var data = ImbrekDatabase.Context(source))
            await using (var transaction = await data.Database.BeginTransactionAsync(cancel))
            {
                var newest = await data.PlanVersions.Where(v => v.Plan == plan).MaxAsync(v => (int?)v.Number, cancel) ?? 0;
                try
                {
                    if (await PlanVersions.WriteAsync(data, fleet.Fleet, now with { Members = now.Members with { Databases = [.. now.Members.Databases, database] } }, false, newest, who, clock.GetCurrentInstant(), cancel) is not null)
                    {
                        await transaction.CommitAsync(cancel);
                        tries = MostTries;
                    }
                }
                catch (DbUpdateException e) when (e.InnerException is PostgresException { SqlState: PostgresErrorCodes.UniqueViolation })
                {
                    // Theirs is read below.
                }
            }

            await fleet.LoadPlansAsync(cancel);
            await services.GetRequiredService<Dispatcher>().ChangedAsync(Peers.Shared.Plans, cancel);
        }
    }
}
