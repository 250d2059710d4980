using System.Text;
using System.Text.Json;
using Imbrek.Core.Evidence;
using Imbrek.Data;
using Imbrek.Server.Security;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Evidence;

/// <summary>The ledger: read, verified, exported with its signed head.</summary>
internal static class LedgerEndpoints
{
    public sealed record EntryView(long Number, Instant At, string Who, string Kind, string Database, JsonElement Body, string Hash);

    public sealed record LedgerPage(IReadOnlyList<EntryView> Entries, long? Next);

    public sealed record LedgerState(long Entries, bool Holds, string? WhatIsWrong, string? LastHash, string Key);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/ledger", PageAsync).Needs(Roles.Look).WithName("Ledger");
        app.MapGet("/api/ledger/verify", VerifyAsync).Needs(Roles.Look).Computes().WithName("VerifyLedger");
        app.MapGet("/api/ledger/export", Export).Needs(Roles.Look).Computes().WithName("ExportLedger").Produces<string>(200, "application/jsonl");
        app.MapGet("/api/ledger/key", (Installation installation) => TypedResults.File(Encoding.ASCII.GetBytes(installation.PublicKey), "application/x-pem-file", "imbrek-ledger-key.pem"))
            .Needs(Roles.Look).WithName("LedgerKey").Produces<string>(200, "application/x-pem-file");
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

    private static async Task<Ok<LedgerState>> VerifyAsync(ImbrekContext data, Installation installation, CancellationToken cancel)
    {
        var check = new LedgerCheck();
        await foreach (var e in data.Ledger.AsNoTracking().OrderBy(e => e.Number).AsAsyncEnumerable().WithCancellation(cancel))
        {
            check.Add(LedgerTable.ToEntry(e));
        }

        var wrong = check.WhatIsWrong(needsHead: false);
        return TypedResults.Ok(new LedgerState(check.Entries, wrong is null, wrong, check.Last?.Hash, installation.Fingerprint));
    }

    private static PushStreamHttpResult Export(ImbrekContext data, Installation installation, CancellationToken cancel) => TypedResults.Stream(
        async stream =>
        {
            await using var writer = new StreamWriter(stream, new UTF8Encoding(false));
            LedgerEntry? last = null;
            await foreach (var e in data.Ledger.AsNoTracking().OrderBy(e => e.Number).AsAsyncEnumerable().WithCancellation(cancel))
            {
                last = LedgerTable.ToEntry(e);
                await writer.WriteLineAsync(LedgerFile.WriteLine(last));
            }

            await writer.WriteLineAsync(LedgerFile.WriteLine(installation.Head(last)));
        },
        "application/jsonl",
        "imbrek-ledger.jsonl");
}
