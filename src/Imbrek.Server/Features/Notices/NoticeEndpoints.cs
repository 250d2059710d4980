using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.Notices;

/// <summary>The mailbox inside the product.</summary>
internal static class NoticeEndpoints
{
    public sealed record NoticeView(long Id, Instant FirstAt, Instant LastAt, string Kind, IReadOnlyList<string> People, string Subject, int Count, IReadOnlyList<string> Databases);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/notices", ListAsync).Needs(Roles.Look).WithName("Notices");
    }

    private static async Task<Ok<IReadOnlyList<NoticeView>>> ListAsync(ImbrekContext data, string? to, string? before, int? take, CancellationToken cancel)
    {
        var earlier = Premise.ReadInstantOrNull("before", before);
        var rows = await data.Notices.AsNoTracking()
            .Where(n => (to == null || n.People.Contains(to)) && (earlier == null || n.LastAt < earlier))
            .OrderByDescending(n => n.LastAt).Take(Math.Clamp(take ?? 100, 1, 500)).ToListAsync(cancel);
        return TypedResults.Ok<IReadOnlyList<NoticeView>>([.. rows.Select(n => new NoticeView(n.Id, n.FirstAt, n.LastAt, n.Kind, n.People, n.Subject, n.Count, n.Databases))]);
    }
}
