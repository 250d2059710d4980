using System.Text;
using System.Text.Json;
using Imbrek.Core.Evidence;
using Imbrek.Data;
using Imbrek.Server.Security;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Evidence;

/// <summary>The ledger: read, verified, exported.</summary>
internal static class LedgerEndpoints
{
    public sealed record EntryView(long Number, Instant At, string Who, string Kind, string Database, JsonElement Body, string Hash);

    public sealed record LedgerPage(IReadOnlyList<EntryView> Entries, long? Next);

    public sealed record LedgerState(long Entries, bool Holds, string? WhatIsWrong, string? LastHash);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/ledger", PageAsync).Needs(Roles.Look).WithName("Ledger");
        app.MapGet("/api/ledger/verify", VerifyAsync).Needs(Roles.Look).WithName("VerifyLedger");
        app.MapGet("/api/ledger/export", ExportAsync).Needs(Roles.Look).WithName("ExportLedger").Produces<string>(200, "application/jsonl");
    }

    private static async Task<Ok<LedgerPage>> PageAsync(ImbrekContext data, string? database, long? before, int? take, CancellationToken cancel)
    {
        var count = Math.Clamp(take ?? 50, 1, 500);
        var rows = await data.Ledger.AsNoTracking().Where(e => (database == null || e.Database == database) && (before == null || e.Number < before))
            .OrderByDescending(e => e.Number).Take(count).ToListAsync(cancel);
        return TypedResults.Ok(new LedgerPage(
            [.. rows.Select(e => new EntryView(e.Number, e.At, e.Who, e.Kind, e.Database, JsonSerializer.Deserialize<JsonElement>(e.Body), e.Hash))],
            rows.Count == count ? rows[^1].Number : null));
    }

    private static async Task<Ok<LedgerState>> VerifyAsync(ImbrekContext data, CancellationToken cancel)
    {
        var entries = await data.Ledger.AsNoTracking().OrderBy(e => e.Number).ToListAsync(cancel);
        var wrong = LedgerFile.WhatIsWrong(entries.Select(LedgerTable.ToEntry));
        return TypedResults.Ok(new LedgerState(entries.Count, wrong is null, wrong, entries.LastOrDefault()?.Hash));
    }

    private static PushStreamHttpResult ExportAsync(ImbrekContext data) => TypedResults.Stream(
        async stream =>
        {
            await using var writer = new StreamWriter(stream, new UTF8Encoding(false));
            await foreach (var e in data.Ledger.AsNoTracking().OrderBy(e => e.Number).AsAsyncEnumerable())
            {
                await writer.WriteLineAsync(LedgerFile.WriteLine(LedgerTable.ToEntry(e)));
            }
        },
        "application/jsonl",
        "imbrek-ledger.jsonl");
}
