using System.Diagnostics;
using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.Fleet;

/// <summary>The parts of the fleet to be looked at and edited by hand: as they stand, how they came to be so, what a change would do to verdicts, and what was agreed.</summary>
internal static class FleetWorksheet
{
    private const int MostShown = 200, MostVersions = 1000, MostHistory = 100;

    /// <summary>So many databases, at most, are judged before and after; those that must be back soonest.</summary>
    private const int MostJudged = 500;

    /// <summary>Whoever types waits no longer for it; what was not judged by then is said.</summary>
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(2);

    /// <param name="Parts">The parts, as the fleet file has them.</param>
    /// <param name="Total">How many there are.</param>
    public sealed record FleetPartsView(int Version, string List, IReadOnlyList<JsonObject> Parts, int Total);

    /// <summary>A part as a version of the fleet had it.</summary>
    /// <param name="Part">The part; null where it was removed.</param>
    public sealed record PartVersion(int Version, Instant At, string Who, string? Why, JsonObject? Part);

    /// <summary>A change that is thought of.</summary>
    /// <param name="Part">The part as it would be; null to remove it.</param>
    public sealed record PartPreviewRequest(string List, string Id, JsonObject? Part);

    /// <summary>A database before and after.</summary>
    public sealed record PreviewRow(
        string Database, string Name, Verdict Before, Verdict After, double? LosesBefore, double? LosesAfter, double? BackBefore, double? BackAfter, string? Why);

    /// <summary>What a change would do.</summary>
    /// <param name="Fault">What is wrong with it; null when nothing is.</param>
    /// <param name="Member">The member at fault.</param>
    /// <param name="Affected">How many databases it may concern.</param>
    /// <param name="Judged">How many of them were judged before and after.</param>
    /// <param name="Changed">Those of which something is different, the worst first.</param>
    public sealed record PartPreview(string? Fault, string? Member, int Affected, int Judged, int Better, int Worse, IReadOnlyList<PreviewRow> Changed);

    /// <summary>What was agreed for a database.</summary>
    public sealed record AgreedRow(
        string Database, string Name, string? Service, string? ServiceOwner, string? Objective, string? ObjectiveName, double? RpoSeconds, double? RtoSeconds, IReadOnlyList<LossKind> Against, double? ProofDays,
        string? Owner, string? Reason, Instant? Until);

    public sealed record AgreedView(Instant At, int Version, IReadOnlyList<AgreedRow> Rows);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/fleet/parts/{list}", PartsAsync).Needs(Roles.Look).WithName("FleetParts");
        app.MapGet("/api/fleet/parts/{list}/{id}/history", HistoryAsync).Needs(Roles.Look).WithName("FleetPartHistory");
        app.MapPost("/api/fleet/preview", PreviewAsync).Needs(Roles.Look).Computes().WithName("PreviewFleetPart");
        app.MapGet("/api/agreed", AgreedAsync).Needs(Roles.Look).WithName("Agreed");
    }

    private static async Task<Ok<FleetPartsView>> PartsAsync(string list, string? find, ImbrekContext data, CancellationToken cancel)
    {
        var (version, document) = await NewestAsync(data, list, cancel);
        var all = (document[list] as JsonArray ?? []).OfType<JsonObject>().ToArray();
        JsonObject[] found = [.. all.Where(p => string.IsNullOrWhiteSpace(find) || NamesOf(p).Any(n => n.Contains(find.Trim(), StringComparison.OrdinalIgnoreCase)))];
        return TypedResults.Ok(new FleetPartsView(version, list, [.. found.Take(MostShown).Select(p => p.DeepClone().AsObject())], found.Length));

        static IEnumerable<string> NamesOf(JsonObject p) => [p["id"]?.ToString() ?? "", p["name"]?.ToString() ?? "", p["between"]?.ToJsonString() ?? "", p["host"]?.ToString() ?? "", p["site"]?.ToString() ?? ""];
    }

    /// <summary>The versions in which a part was another than in the one before, newest first.</summary>
    private static async Task<Ok<IReadOnlyList<PartVersion>>> HistoryAsync(string list, string id, NpgsqlDataSource source, CancellationToken cancel)
    {
        RequireList(list);
        var found = new List<PartVersion>();
        await using var command = source.CreateCommand($"""
            select number, at, who, why, part::text from (
                select number, at, who, why, part, lag(part) over (order by number) as before, row_number() over (order by number) as place from (
                    select number, at, who, why, jsonb_path_query_first(document, $1::jsonpath, jsonb_build_object('id', $2::text, 'one', split_part($2, '|', 1), 'other', split_part($2, '|', 2))) as part
                    from fleet_versions order by number desc limit {MostVersions}) v) w
            where part is distinct from before or (place = 1 and part is not null) order by number desc limit {MostHistory}
            """);
        command.Parameters.Add(new() { Value = list == "links" ? "$.links[*] ? (exists(@.between[*] ? (@ == $one)) && exists(@.between[*] ? (@ == $other)))" : $"$.{list}[*] ? (@.id == $id)" });
        command.Parameters.Add(new() { Value = id });
        await using var reader = await command.ExecuteReaderAsync(cancel);
        while (await reader.ReadAsync(cancel))
        {
            found.Add(new(
                reader.GetInt32(0), await reader.GetFieldValueAsync<Instant>(1, cancel), reader.GetString(2), await reader.IsDBNullAsync(3, cancel) ? null : reader.GetString(3),
                await reader.IsDBNullAsync(4, cancel) ? null : JsonNode.Parse(reader.GetString(4))!.AsObject()));
        }

        return TypedResults.Ok<IReadOnlyList<PartVersion>>(found);
    }

    private static async Task<Ok<PartPreview>> PreviewAsync(PartPreviewRequest request, FleetState state, DesignedState designed, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        RequireList(request.List ?? "");
        var now = clock.GetCurrentInstant();
        var before = state.Fleet;
        FleetModel after;
        try
        {
            var newest = await data.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).Select(v => v.Document).FirstOrDefaultAsync(cancel);
            after = FleetParts.Changed(newest, [request.Part is { } part ? FleetParts.Put(request.List!, request.Id ?? "", part) : FleetParts.Removed(request.List!, request.Id ?? "")]).WithPlans(before.Plans);
        }
        catch (BadInputException e)
        {
            return TypedResults.Ok(new PartPreview(e.Message, e.Member, 0, 0, 0, 0, []));
        }

        var began = Stopwatch.GetTimestamp();
        Core.Fleet.Database[] affected = [.. before.Databases.Where(d => after.DatabaseById.ContainsKey(d.Id) && (Concerns(before, d) || Concerns(after, after.DatabaseById[d.Id]))).OrderBy(d => before.ObjectiveOf(d)?.RtoSeconds ?? double.MaxValue).ThenBy(d => d.Id.Value, StringComparer.Ordinal)];
        var rows = new List<PreviewRow>();
        var (judged, better, worse) = (0, 0, 0);
        foreach (var d in affected.Take(MostJudged))
        {
            cancel.ThrowIfCancellationRequested();
            if (judged > 0 && Stopwatch.GetElapsedTime(began) > Longest)
            {
                break;
            }

            judged++;
            var (was, then) = (state[d.Id].Judge(now, now: true, designed), state[d.Id].In(after).Judge(now, now: true, designed));
            var row = new PreviewRow(
                d.Id.Value, d.Name, was.Overall.Verdict, then.Overall.Verdict, Worst(was.ByLoss, f => f.ExposureSeconds(now)), Worst(then.ByLoss, f => f.ExposureSeconds(now)),
                Worst(was.ByLoss, f => f.Path?.ServiceSeconds), Worst(then.ByLoss, f => f.Path?.ServiceSeconds), then.Overall.Reasons.Except(was.Overall.Reasons).FirstOrDefault());
            (better, worse) = (better + (row.After < row.Before ? 1 : 0), worse + (row.After > row.Before ? 1 : 0));

            // Figures made a moment apart differ by that moment.
            if (row.Before != row.After || Differ(row.LosesBefore, row.LosesAfter) || Differ(row.BackBefore, row.BackAfter))
            {
                rows.Add(row);
            }
        }

        return TypedResults.Ok(new PartPreview(null, null, affected.Length, judged, better, worse, [.. rows.OrderByDescending(r => r.After - r.Before).ThenByDescending(r => r.After).Take(MostShown)]));

        bool Concerns(FleetModel fleet, Core.Fleet.Database d) => request.List switch
        {
            "services" => false,
            "databases" => d.Id.Value == request.Id,
            "objectives" => d.Objective?.Value == request.Id,
            "engines" => d.Engine.Value == request.Id,
            "replicas" => fleet.ReplicasOf(d.Id).Any(r => r.Id.Value == request.Id),
            "groups" => fleet.GroupOf(d.Id)?.Id.Value == request.Id,
            _ => true,
        };

        static double? Worst(IEnumerable<(LossKind, Judgement, LossFigures Figures)> each, Func<LossFigures, double?> of) => each.Select(e => of(e.Figures)).ToArray() is { Length: > 0 } all && all.All(v => v is not null) ? all.Max() : null;

        static bool Differ(double? one, double? other) => (one is null) != (other is null) || Math.Abs((one ?? 0) - (other ?? 0)) >= 2;
    }

    private static async Task<Ok<AgreedView>> AgreedAsync(FleetState state, ImbrekContext data, IClock clock, CancellationToken cancel)
    {
        var fleet = state.Fleet;
        return TypedResults.Ok(new AgreedView(
            clock.GetCurrentInstant(),
            await data.FleetVersions.MaxAsync(v => (int?)v.Number, cancel) ?? 0,
            [.. fleet.Databases.Select(d => (Database: d, Objective: fleet.ObjectiveOf(d), Service: d.Service is { } s ? fleet.Services.GetValueOrDefault(s) : null))
                .OrderBy(x => x.Service is null).ThenBy(x => x.Service?.Name, StringComparer.Ordinal).ThenBy(x => x.Objective?.RtoSeconds ?? double.MaxValue).ThenBy(x => x.Database.Name, StringComparer.Ordinal)
                .Select(x => new AgreedRow(
                    x.Database.Id.Value, x.Database.Name, x.Service?.Name, x.Service?.Owner, x.Objective?.Id.Value, x.Objective?.Name, x.Objective?.RpoSeconds, x.Objective?.RtoSeconds, x.Objective?.Against ?? [], x.Objective?.ProofDays,
                    x.Objective?.Owner, x.Objective?.Reason, x.Objective?.Until))]));
    }

    private static async Task<(int Version, JsonObject Document)> NewestAsync(ImbrekContext data, string list, CancellationToken cancel)
    {
        RequireList(list);
        var newest = await data.FleetVersions.AsNoTracking().OrderByDescending(v => v.Number).FirstOrDefaultAsync(cancel);
        return (newest?.Number ?? 0, newest is null ? [] : JsonNode.Parse(newest.Document)!.AsObject());
    }

    private static void RequireList(string list)
    {
        if (!FleetParts.Lists.Contains(list))
        {
            throw new BadInputException("list", $"must be one of {string.Join(", ", FleetParts.Lists)}", 404, "not-found");
        }
    }
}
