using System.Security.Claims;
using System.Text;
using System.Text.Json;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Files;

/// <summary>The open files, in and out.</summary>
internal static class FileEndpoints
{
    /// <summary>The largest import, in bytes.</summary>
    public const long MostBytes = 2_000_000_000;

    /// <summary>How many times as much memory as a catalogue is long its sets take while they are read.</summary>
    private const long SetsToBytes = 3;

    public sealed record FaultView(string File, int Line, string Member, string Message);

    /// <summary>What an import sends, as a form: one of them or both.</summary>
    public sealed record ImportFiles
    {
        public IFormFile? Fleet { get; init; }

        public IFormFile? Catalogue { get; init; }
    }

    public sealed record ImportResult(bool Imported, int Databases, int Sets, int Stretches, IReadOnlyList<FaultView> Faults, IReadOnlyList<FaultView> Warnings);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/import", ImportAsync).Needs(Roles.Plan).Computes().WithName("Import").Accepts<ImportFiles>("multipart/form-data")
            .WithMetadata(new Microsoft.AspNetCore.Mvc.RequestSizeLimitAttribute(MostBytes));
        app.MapGet("/api/export/fleet", ExportFleetAsync).Needs(Roles.Look).Computes().WithName("ExportFleet").Produces<string>(200, "application/json");
        app.MapGet("/api/export/catalogue.csv", ExportCatalogueCsv).Needs(Roles.Look).Computes().WithName("ExportCatalogueCsv").Produces<string>(200, "text/csv");
        app.MapGet("/api/export/catalogue", ExportCatalogue).Needs(Roles.Look).Computes().WithName("ExportCatalogue").Produces<string>(200, "application/jsonl");
    }

    /// <summary>Takes a fleet file, a catalogue file, or both; all or nothing unless bad catalogue lines are to be skipped.</summary>
    private static async Task<Results<Ok<ImportResult>, UnprocessableEntity<ImportResult>>> ImportAsync(
        bool? skipBad, HttpRequest request, FleetState state, NpgsqlDataSource source, IClock clock, ClaimsPrincipal user, IGuest guest, Dispatcher dispatcher, CancellationToken cancel)
    {
        SentFile? fleet = null, catalogue = null;
        Task<ReadResult<FleetModel>>? reading = null;
        await foreach (var file in SentFile.OfAsync(request, ["fleet", "catalogue"], cancel))
        {
            if (file.Member == "fleet")
            {
                // It is read while the larger one still comes.
                fleet = file;
                reading = Task.Run(() => FleetFile.Read(file.Bytes, file.Name), cancel);
            }
            else
            {
                catalogue = file;
            }
        }

        if (fleet is null && catalogue is null)
        {
            throw new BadInputException("fleet", "send a fleet file, a catalogue file, or both");
        }

        var faults = new List<Fault>();
        var warnings = new List<Fault>();
        var model = state.Fleet;
        if (reading is not null)
        {
            var read = await reading;
            faults.AddRange(read.Faults);
            warnings.AddRange(read.Warnings);
            model = read.Value;
        }

        Core.Catalogue.BackupCatalogue? sets = null;
        if (catalogue is not null && model is not null)
        {
            using var uncollected = Uncollected.For(SetsToBytes * catalogue.Bytes.Length);
            var read = catalogue.Name.EndsWith(".csv", StringComparison.OrdinalIgnoreCase)
                ? CatalogueCsv.Read(catalogue.Bytes.Span, catalogue.Name, model, skipBad ?? false)
                : CatalogueFile.Read(catalogue.Bytes, catalogue.Name, model, skipBad ?? false);
            faults.AddRange(read.Faults);
            warnings.AddRange(read.Warnings);
            var several = 0;
            sets = read.Value?.WithOneCopyAStore(out several);
            if (several > 0)
            {
                warnings.Add(new Fault(catalogue.Name, 1, "copies", $"{several:N0} {(several == 1 ? "set has" : "sets have")} several copies in one store, one after the other: the last alone is kept"));
            }
        }

        var count = sets?.Count ?? 0;
        Core.Replication.LagStretch[] lag = [.. sets?.All.SelectMany(c => c.Lag).SelectMany(l => l.Stretches) ?? []];
        if (model is null || (catalogue is not null && sets is null))
        {
            return TypedResults.UnprocessableEntity(new ImportResult(false, 0, 0, 0, View(faults), View(warnings)));
        }

        if (guest.SetsThePace)
        {
            throw new BadInputException(
                fleet is null ? "catalogue" : "fleet",
                "the files hold no fault, but the demo's fleet belongs to its simulated world: nothing was imported; import into a server started with ./imbrek serve",
                409,
                "demo");
        }

        await using var connection = await source.OpenConnectionAsync(cancel);
        await using var transaction = await connection.BeginTransactionAsync(cancel);
        await using var inside = await ImbrekDatabase.WithinAsync(source, transaction, cancel);
        var now = clock.GetCurrentInstant();
        var who = user.Identity!.Name!;
        Task<ReadResult<FleetModel>>? kept = null;
        if (fleet is not null)
        {
            if (PlanSizes(model, now) is { } much)
            {
                throw new BadInputException("fleet", much);
            }

            // What a second person must agree to is not brought in by a file.
            if (state.Fleet.Plans.SelectMany(b => WeakerLock.Of(b, model.Plans.FirstOrDefault(p => p.Id == b.Id), state.Fleet).Select(w => (Plan: b, w.Task))).FirstOrDefault() is { Plan: { } weakened, Task: var task })
            {
                throw new BadInputException("fleet", $"copies of {task} under plan {weakened.Id} would be locked for less time than now: change the plan itself, so that a second person can agree; then import", 409, "second-person");
            }

            var document = FleetFile.Write(model.WithPlans([]));
            kept = Task.Run(() => FleetFile.Read(Encoding.UTF8.GetBytes(document), "fleet"), cancel);
            inside.FleetVersions.Add(new FleetVersionRow
            {
                Number = (await inside.FleetVersions.MaxAsync(v => (int?)v.Number, cancel) ?? 0) + 1,
                At = now,
                Who = who,
                Document = document,
            });
            await PlanVersions.ReplaceAsync(inside, model, state.Fleet.Plans, who, now, cancel);
        }

        var whole = sets is not null && await CatalogueTable.UpsertAsync(connection, sets, cancel);
        await LagTable.UpsertAsync(connection, lag, cancel);
        var keptFleet = kept is null ? null : await kept;
        if (keptFleet is { Value: null } unreadable)
        {
            throw new BadInputException(unreadable.Faults[0].Member, $"cannot be kept: {unreadable.Faults[0].Message}");
        }

        if (fleet is not null && await FleetReferences.FindAsync(connection, model, cancel, setsAreOfIt: whole) is { Count: > 0 } missing)
        {
            // Rolled back: nothing of the import is kept.
            faults.AddRange(missing.Take(InputBounds.Faults).Select(m => new Fault(fleet.Name, 1, m.List, $"'{m.Id}' {m.Named}")));
            return TypedResults.UnprocessableEntity(new ImportResult(false, 0, 0, 0, View(faults), View(warnings)));
        }

        var body = JsonSerializer.Serialize(new { databases = fleet is null ? 0 : model.Databases.Count, sets = count, stretches = lag.Length, skippedLines = faults.Count });
        await LedgerTable.AppendAsync(inside, now, who, "import", "", body, cancel);
        await state.LoadAsync(KeepAsync, cancel);
        await dispatcher.ChangedAsync(Peers.Shared.Fleet, cancel);
        return TypedResults.Ok(new ImportResult(true, fleet is null ? 0 : model.Databases.Count, count, lag.Length, View(faults), View(warnings)));

        async Task<FleetState.Kept> KeepAsync()
        {
            await transaction.CommitAsync(cancel);
            return new(keptFleet?.Value, whole ? sets : null);
        }
    }

    private static string? PlanSizes(FleetModel fleet, Instant now) =>
        fleet.Plans.Select(p => PlanSize.Of(p, fleet, now).WhatIsTooMuch is { } much ? $"plan {p.Name} {much}" : null).FirstOrDefault(m => m is not null);

    private static FaultView[] View(IEnumerable<Fault> faults) => [.. faults.Select(f => new FaultView(f.File, f.Line, f.Member, f.Message))];

    /// <summary>The fleet as it is in force, or, where something of it could not be read, as it is kept, so that it can be mended.</summary>
    private static async Task<PushStreamHttpResult> ExportFleetAsync(FleetState state, ImbrekContext data, bool? kept, CancellationToken cancel)
    {
        var document = kept == true ? (await data.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).FirstOrDefaultAsync(cancel))?.Document : null;
        return TypedResults.Stream(stream => document is null ? FleetFile.WriteAsync(state.Fleet, stream, cancel) : stream.WriteAsync(Encoding.UTF8.GetBytes(document), cancel).AsTask(), "application/json", "fleet.json");
    }

    private static PushStreamHttpResult ExportCatalogueCsv(FleetState state, CancellationToken cancel) => TypedResults.Stream(
        async stream =>
        {
            // A database at a time: the writer knows no waiting, the answer no writing without.
            await using var writer = new StreamWriter(stream, new UTF8Encoding(false));
            await writer.WriteAsync(CatalogueCsv.Write([]).AsMemory(), cancel);
            foreach (var d in state.Fleet.Databases)
            {
                await writer.WriteAsync(CatalogueCsv.Write(state[d.Id].Subject.Catalogue.Sets, header: false).AsMemory(), cancel);
            }
        },
        "text/csv",
        "catalogue.csv");

    private static PushStreamHttpResult ExportCatalogue(FleetState state, CancellationToken cancel) => TypedResults.Stream(
        async stream =>
        {
            await using var writer = new StreamWriter(stream, new UTF8Encoding(false));
            foreach (var d in state.Fleet.Databases)
            {
                foreach (var set in state[d.Id].Subject.Catalogue.Sets)
                {
                    await writer.WriteLineAsync(CatalogueFile.WriteLine(set).AsMemory(), cancel);
                }

                foreach (var stretch in state[d.Id].Subject.Catalogue.Lag.SelectMany(l => l.Stretches))
                {
                    await writer.WriteLineAsync(CatalogueFile.WriteLine(stretch).AsMemory(), cancel);
                }
            }
        },
        "application/jsonl",
        "catalogue.jsonl");
}
