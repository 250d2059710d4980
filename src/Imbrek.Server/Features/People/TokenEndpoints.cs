using Imbrek.Core.Formats;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.People;

/// <summary>Tokens for scripts and for what reads metrics: named, with one role and an end, shown once, kept as a hash.</summary>
internal static class TokenEndpoints
{
    private const int MostTokens = 500;
    private const double LongestDays = 3660;

    public sealed record TokenView(Guid Id, string Name, string Role, string MadeBy, Instant MadeAt, Instant EndsAt, Instant? UsedAt, Instant? RevokedAt);

    public sealed record TokenRequest(string Name, string Role, double Days);

    public sealed record TokenMade(Guid Id, string Token, Instant EndsAt);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/tokens", ListAsync).Needs(Roles.Administer).InSession().WithName("Tokens");
        app.MapPost("/api/tokens", MakeAsync).Needs(Roles.Administer).InSession().WithName("MakeToken");
        app.MapPost("/api/tokens/{id:guid}/revoke", RevokeAsync).Needs(Roles.Administer).InSession().WithName("RevokeToken");
    }

    private static async Task<Ok<IReadOnlyList<TokenView>>> ListAsync(ImbrekContext data, CancellationToken cancel)
    {
        var rows = await data.Tokens.AsNoTracking().OrderByDescending(t => t.MadeAt).ToListAsync(cancel);
        return TypedResults.Ok<IReadOnlyList<TokenView>>([.. rows.Select(t => new TokenView(t.Id, t.Name, t.Role, t.MadeBy, t.MadeAt, t.EndsAt, t.UsedAt, t.RevokedAt))]);
    }

    private static async Task<Created<TokenMade>> MakeAsync(TokenRequest request, ImbrekContext data, IClock clock, HttpContext http, CancellationToken cancel)
    {
        if (string.IsNullOrWhiteSpace(request.Name) || request.Name.Length > InputBounds.Name)
        {
            throw new BadInputException("name", $"say in at most {InputBounds.Name} characters what it is for");
        }

        if (!Roles.All.Contains(request.Role))
        {
            throw new BadInputException("role", $"name one of {string.Join(", ", Roles.All)}");
        }

        if (!(request.Days > 0 && request.Days <= LongestDays))
        {
            throw new BadInputException("days", $"must be above 0 and at most {LongestDays}");
        }

        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await Invitations.OneAtATimeAsync(data, cancel);
        if (await data.Tokens.CountAsync(cancel) >= MostTokens)
        {
            throw new BadInputException("name", $"there are {MostTokens} tokens already", 409, "too-many");
        }

        var (token, now) = ($"imbrek_{RandomSecret.New()}", SystemClock.Instance.GetCurrentInstant());
        var row = new TokenRow
        {
            Id = Guid.NewGuid(),
            Name = request.Name.Trim(),
            Role = request.Role,
            Hash = RandomSecret.Hash(token),
            MadeBy = http.User.Identity!.Name!,
            MadeAt = now,
            EndsAt = now + Duration.FromDays(request.Days),
        };
        data.Tokens.Add(row);
        await data.SaveChangesAsync(cancel);
        await PeopleEndpoints.NoteAsync(data, clock, http, "token-made", new { id = row.Id, name = row.Name, role = row.Role, endsAt = Instants.Write(row.EndsAt) }, cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.Created($"/api/tokens/{row.Id}", new TokenMade(row.Id, token, row.EndsAt));
    }

    private static async Task<NoContent> RevokeAsync(Guid id, ImbrekContext data, IClock clock, HttpContext http, CancellationToken cancel)
    {
        var now = SystemClock.Instance.GetCurrentInstant();
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        if (await data.Tokens.Where(t => t.Id == id && t.RevokedAt == null).ExecuteUpdateAsync(u => u.SetProperty(t => t.RevokedAt, now), cancel) == 0)
        {
            throw new BadInputException("id", "there is no such token, or it was revoked", 404, "not-found");
        }

        await PeopleEndpoints.NoteAsync(data, clock, http, "token-revoked", new { id }, cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.NoContent();
    }
}
