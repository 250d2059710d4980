using System.Security.Claims;
using System.Text;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Server.Features.Versions;

/// <summary>The version calendar, in and out, and what it says.</summary>
internal static class VersionEndpoints
{
    private const long MostBytes = 5_000_000;

    /// <summary>A version, how many databases run it, and how long it is supported.</summary>
    public sealed record VersionView(string Engine, string EngineName, string Version, string SupportedUntil, int DaysLeft, int Databases);

    /// <param name="Due">The databases that must move on, soonest first.</param>
    /// <param name="Unknown">How many databases run a version that is not in it.</param>
    public sealed record VersionsView(int NearDays, IReadOnlyList<VersionView> Versions, IReadOnlyList<DueView> Due, int Unknown);

    public sealed record DueView(string Database, string Name, string Engine, string Version, string SupportedUntil, int DaysLeft);

    public sealed record VersionFault(int Line, string Member, string Message);

    public sealed record VersionsKept(bool Kept, int Versions, IReadOnlyList<VersionFault> Faults, IReadOnlyList<VersionFault> Warnings);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/versions", GetAsync).Needs(Roles.Look).WithName("Versions");
        app.MapGet("/api/export/versions", ExportAsync).Needs(Roles.Look).WithName("ExportVersions").Produces<string>(200, "application/json");
        app.MapPut("/api/versions", PutAsync).Needs(Roles.Plan).WithName("PutVersions").Accepts<string>("application/json").WithMetadata(new Microsoft.AspNetCore.Mvc.RequestSizeLimitAttribute(MostBytes));
    }

    private static async Task<Ok<VersionsView>> GetAsync(VersionBook book, FleetState state, IClock clock, CancellationToken cancel)
    {
        var (calendar, fleet, now) = (await book.LoadAsync(cancel), state.Fleet, clock.GetCurrentInstant());
        var running = fleet.Databases.CountBy(d => (d.Engine, d.Version)).ToDictionary(p => p.Key, p => p.Value);
        var today = now.InUtc().Date;
        return TypedResults.Ok(new VersionsView(
            VersionCalendar.NearDays,
            [.. calendar.Versions.Select(v => new VersionView(v.Engine.Value, fleet.Engines.TryGetValue(v.Engine, out var e) ? e.Name : v.Engine.Value, v.Version, LocalDatePattern.Iso.Format(v.SupportedUntil), Period.DaysBetween(today, v.SupportedUntil), running.GetValueOrDefault((v.Engine, v.Version))))],
            [.. calendar.Due(fleet, now).Select(s => new DueView(s.Database.Id.Value, s.Database.Name, s.Support.Engine.Value, s.Support.Version, LocalDatePattern.Iso.Format(s.Support.SupportedUntil), s.DaysLeft))],
            fleet.Databases.Count(d => calendar.Of(d, now) is null)));
    }

    private static async Task<FileContentHttpResult> ExportAsync(VersionBook book, CancellationToken cancel) =>
        TypedResults.File(Encoding.UTF8.GetBytes(VersionFile.Write(await book.LoadAsync(cancel))), "application/json", "versions.json");

    /// <summary>Takes a calendar in place of the one in force; all of it, or nothing.</summary>
    private static async Task<Results<Ok<VersionsKept>, UnprocessableEntity<VersionsKept>>> PutAsync(HttpRequest request, VersionBook book, FleetState state, ImbrekContext data, IClock clock, ClaimsPrincipal user, CancellationToken cancel)
    {
        using var body = new MemoryStream();
        await request.Body.CopyToAsync(body, cancel);
        var read = VersionFile.Read(body.ToArray(), "versions", state.Fleet);
        if (read.Value is not { } calendar)
        {
            return TypedResults.UnprocessableEntity(new VersionsKept(false, 0, View(read.Faults), View(read.Warnings)));
        }

        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await data.Versions.ExecuteDeleteAsync(cancel);
        data.Versions.AddRange(calendar.Versions.Select((v, i) => new VersionRow { Number = i + 1, Engine = v.Engine.Value, Version = v.Version, SupportedUntil = v.SupportedUntil }));
        await LedgerTable.AppendAsync(data, clock.GetCurrentInstant(), user.Identity!.Name!, "version-calendar", "", RunJson.Write(new { versions = calendar.Versions.Count }), cancel);
        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        await book.LoadAsync(cancel);
        return TypedResults.Ok(new VersionsKept(true, calendar.Versions.Count, [], View(read.Warnings)));
    }

    private static VersionFault[] View(IEnumerable<Fault> faults) => [.. faults.Select(f => new VersionFault(f.Line, f.Member, f.Message))];
}
