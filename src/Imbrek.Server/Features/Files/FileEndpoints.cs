using System.Security.Claims;
using System.Text;
using System.Text.Json;
using Imbrek.Core.Formats;
using Imbrek.Data;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Setup;
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

    public sealed record FaultView(string File, int Line, string Member, string Message);

    public sealed record ImportResult(bool Imported, int Databases, int Sets, IReadOnlyList<FaultView> Faults, IReadOnlyList<FaultView> Warnings);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/import", ImportAsync).Needs(Roles.Plan).WithName("Import").DisableAntiforgery()
            .WithMetadata(new Microsoft.AspNetCore.Mvc.RequestSizeLimitAttribute(MostBytes));
        app.MapGet("/api/export/fleet", ExportFleet).Needs(Roles.Look).WithName("ExportFleet").Produces<string>(200, "application/json");
        app.MapGet("/api/export/catalogue.csv", ExportCatalogueCsv).Needs(Roles.Look).WithName("ExportCatalogueCsv").Produces<string>(200, "text/csv");
        app.MapGet("/api/export/catalogue", ExportCatalogue).Needs(Roles.Look).WithName("ExportCatalogue").Produces<string>(200, "application/jsonl");
    }

    /// <summary>Takes a fleet file, a catalogue file, or both; all or nothing unless bad catalogue lines are to be skipped.</summary>
    private static async Task<Results<Ok<ImportResult>, UnprocessableEntity<ImportResult>>> ImportAsync(
        IFormFile? fleet, IFormFile? catalogue, bool? skipBad, FleetState state, ImbrekContext data, NpgsqlDataSource source, IClock clock, ClaimsPrincipal user, WorldHost world, CancellationToken cancel)
    {
        if (fleet is null && catalogue is null)
        {
            throw new BadInputException("fleet", "send a fleet file, a catalogue file, or both");
        }

        var faults = new List<Fault>();
        var warnings = new List<Fault>();
        var model = state.Fleet;
        if (fleet is not null)
        {
            var read = FleetFile.Read(await BytesAsync(fleet, cancel), fleet.FileName);
            faults.AddRange(read.Faults);
            warnings.AddRange(read.Warnings);
            model = read.Value;
        }

        Core.Catalogue.BackupCatalogue? sets = null;
        if (catalogue is not null && model is not null)
        {
            var bytes = await BytesAsync(catalogue, cancel);
            var read = catalogue.FileName.EndsWith(".csv", StringComparison.OrdinalIgnoreCase)
                ? CatalogueCsv.Read(bytes, catalogue.FileName, model, skipBad ?? false)
                : CatalogueFile.Read(bytes, catalogue.FileName, model, skipBad ?? false);
            faults.AddRange(read.Faults);
            warnings.AddRange(read.Warnings);
            sets = read.Value;
        }

        var all = sets?.All.SelectMany(c => c.Sets).ToArray() ?? [];
        if (model is null || (catalogue is not null && sets is null))
        {
            return TypedResults.UnprocessableEntity(new ImportResult(false, 0, 0, View(faults), View(warnings)));
        }

        if (world.IsDemo)
        {
            throw new BadInputException(
                fleet is null ? "catalogue" : "fleet",
                "the files hold no fault, but the demo's fleet belongs to its simulated world: nothing was imported; import into a server started with ./imbrek serve",
                409,
                "demo");
        }

        await using var connection = await source.OpenConnectionAsync(cancel);
        await using var transaction = await connection.BeginTransactionAsync(cancel);
        await using var inside = ImbrekDatabase.Context(source);
        inside.Database.SetDbConnection(connection);
        await inside.Database.UseTransactionAsync(transaction, cancel);
        var now = clock.GetCurrentInstant();
        var who = user.Identity!.Name!;
        if (fleet is not null)
        {
            inside.FleetVersions.Add(new FleetVersionRow
            {
                Number = (await inside.FleetVersions.MaxAsync(v => (int?)v.Number, cancel) ?? 0) + 1,
                At = now,
                Who = who,
                Document = FleetFile.Write(model.WithPlans([])),
            });
            await PlanVersions.ReplaceAsync(inside, model.Plans, state.Fleet.Plans, who, now, cancel);
        }

        await CatalogueTable.UpsertAsync(connection, all, cancel);
        var body = JsonSerializer.Serialize(new { databases = fleet is null ? 0 : model.Databases.Count, sets = all.Length, skippedLines = faults.Count });
        await LedgerTable.AppendAsync(inside, now, who, "import", "", body, cancel);
        await transaction.CommitAsync(cancel);
        await ImbrekDatabase.AnalyzeAsync(connection, cancel);
        await state.LoadAsync(cancel);
        await world.ChangedAsync(Peers.Shared.Fleet, cancel);
        return TypedResults.Ok(new ImportResult(true, fleet is null ? 0 : model.Databases.Count, all.Length, View(faults), View(warnings)));
    }

    private static FaultView[] View(IEnumerable<Fault> faults) => [.. faults.Select(f => new FaultView(f.File, f.Line, f.Member, f.Message))];

    private static async Task<byte[]> BytesAsync(IFormFile file, CancellationToken cancel)
    {
        using var buffer = new MemoryStream();
        await file.CopyToAsync(buffer, cancel);
        return buffer.ToArray();
    }

    private static FileContentHttpResult ExportFleet(FleetState state) =>
        TypedResults.File(Encoding.UTF8.GetBytes(FleetFile.Write(state.Fleet)), "application/json", "fleet.json");

    private static FileContentHttpResult ExportCatalogueCsv(FleetState state) => TypedResults.File(
        Encoding.UTF8.GetBytes(CatalogueCsv.Write(state.Fleet.Databases.SelectMany(d => state[d.Id].Subject.Catalogue.Sets))), "text/csv", "catalogue.csv");

    private static PushStreamHttpResult ExportCatalogue(FleetState state) => TypedResults.Stream(
        async stream =>
        {
            await using var writer = new StreamWriter(stream, new UTF8Encoding(false));
            foreach (var d in state.Fleet.Databases)
            {
                foreach (var set in state[d.Id].Subject.Catalogue.Sets)
                {
                    await writer.WriteLineAsync(CatalogueFile.WriteLine(set));
                }
            }
        },
        "application/jsonl",
        "catalogue.jsonl");
}
