using System.Diagnostics;
using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Data;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Versions;

/// <summary>The version calendar that is in force, and what it says of each database. Another process may have changed it: it is read again now and then.</summary>
internal sealed class VersionBook(NpgsqlDataSource source, ILogger<VersionBook> log) : IFindingSource
{
    private static readonly TimeSpan LooksAgain = TimeSpan.FromSeconds(10);

    private volatile VersionCalendar calendar = new([]);
    private long lookedAt;
    private int looking;

    /// <inheritdoc/>
    public IEnumerable<Finding> Of(Core.Fleet.Database d, Instant at)
    {
        if ((lookedAt == 0 || Stopwatch.GetElapsedTime(lookedAt) > LooksAgain) && Interlocked.Exchange(ref looking, 1) == 0)
        {
            _ = Task.Run(LookAsync);
        }

        return VersionFindings.Of(d, calendar, at);
    }

    /// <summary>Reads it.</summary>
    public async Task<VersionCalendar> LoadAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Versions.AsNoTracking().OrderBy(v => v.Number).ToListAsync(cancel);
        return calendar = new([.. rows.Select(v => new VersionSupport(new(v.Engine), v.Version, v.SupportedUntil))]);
    }

    private async Task LookAsync()
    {
        try
        {
            await LoadAsync(default);
        }
        catch (Exception e) when (e is NpgsqlException or InvalidOperationException)
        {
            log.LogWarning("The version calendar could not be read: {Reason}", e.Message);
        }
        finally
        {
            lookedAt = Stopwatch.GetTimestamp();
            Volatile.Write(ref looking, 0);
        }
    }
}
