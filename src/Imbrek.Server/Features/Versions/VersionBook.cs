using Imbrek.Core.Findings;
using Imbrek.Core.Fleet;
using Imbrek.Data;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Versions;

/// <summary>The version calendar that is in force, and what it says of each database. Another process may have changed it: it is read again now and then.</summary>
internal sealed class VersionBook : IFindingSource
{
    private static readonly TimeSpan LooksAgain = TimeSpan.FromSeconds(10);

    private readonly NpgsqlDataSource source;
    private readonly ReadNowAndThen reading;
    private volatile VersionCalendar calendar = new([]);

    public VersionBook(NpgsqlDataSource source, ILogger<VersionBook> log)
    {
        this.source = source;
        reading = new("the version calendar", LooksAgain, () => LoadAsync(default), log);
    }

    /// <inheritdoc/>
    public IEnumerable<Finding> Of(Core.Fleet.Database d, Instant at)
    {
        reading.Look();
        return VersionFindings.Of(d, calendar, at);
    }

    /// <summary>Reads it.</summary>
    public async Task<VersionCalendar> LoadAsync(CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        var rows = await data.Versions.AsNoTracking().OrderBy(v => v.Number).ToListAsync(cancel);
        return calendar = new([.. rows.Select(v => new VersionSupport(new(v.Engine), v.Version, v.SupportedUntil))]);
    }
}
