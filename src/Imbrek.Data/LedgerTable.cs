using Imbrek.Core.Evidence;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Data;

/// <summary>The evidence ledger: entries are only ever added at its end, one at a time.</summary>
public static class LedgerTable
{
    private const long AppendLock = 0x2_4D_42_52_45_4B;

    /// <summary>Adds an entry inside the caller's transaction, which holds the ledger until it ends.</summary>
    /// <returns>The number of the entry.</returns>
    public static async Task<long> AppendAsync(ImbrekContext context, Instant at, string who, string kind, string database, string body, CancellationToken cancel)
    {
        await context.Database.ExecuteSqlRawAsync($"select pg_advisory_xact_lock({AppendLock})", cancel);
        var last = await context.Ledger.AsNoTracking().OrderByDescending(e => e.Number).FirstOrDefaultAsync(cancel);
        var entry = LedgerEntry.After(last?.Hash ?? LedgerEntry.Genesis, (last?.Number ?? 0) + 1, at, who, kind, database, body);
        context.Ledger.Add(new LedgerRow
        {
            Number = entry.Number,
            At = entry.At,
            Who = entry.Who,
            Kind = entry.Kind,
            Database = entry.Database,
            Body = entry.Body,
            Previous = entry.Previous,
            Hash = entry.Hash,
        });
        await context.SaveChangesAsync(cancel);
        return entry.Number;
    }

    /// <summary>An entry as the core knows it.</summary>
    public static LedgerEntry ToEntry(LedgerRow r) => new(r.Number, r.At, r.Who, r.Kind, r.Database, r.Body, r.Previous, r.Hash);
}
