using Imbrek.Core.Formats;
using Imbrek.Data;
using Imbrek.Server.Features.SignIn;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Server.Features.People;

/// <summary>
/// One-time addresses: by one the first administrator sets name and password, by others people who were added, or whose password was reset, set
/// theirs. So nobody ever knows somebody else's password, and none stands in a log.
/// </summary>
internal static class Invitations
{
    /// <summary>How long an address is good.</summary>
    public static readonly Duration Good = Duration.FromDays(2);

    private const int ShortestPassword = 12;
    private const int LongestPassword = 200;
    private const long PeopleLock = 0x5_4D_42_52_45_4B;

    public sealed record WelcomeRequest(string Code, string? Name, string? DisplayName, string Password);

    public sealed record Welcomed(string Name);

    public sealed record LookRequest(string Code);

    public sealed record WelcomeView(string? Name, string? DisplayName);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/welcome/look", LookAsync).AllowAnonymous().WithName("LookAtWelcome");
        app.MapPost("/api/welcome", WelcomeAsync).AllowAnonymous().WithName("Welcome");
    }

    /// <summary>Makes an address inside the caller's transaction; earlier ones of the same person end.</summary>
    /// <returns>The code, which is kept nowhere.</returns>
    public static async Task<string> MakeAsync(ImbrekContext data, string? person, CancellationToken cancel)
    {
        var code = RandomSecret.New();
        await data.Invitations.Where(i => i.PersonId == person).ExecuteDeleteAsync(cancel);
        data.Invitations.Add(new InvitationRow { Id = RandomSecret.Hash(code), PersonId = person, EndsAt = SystemClock.Instance.GetCurrentInstant() + Good });
        await data.SaveChangesAsync(cancel);
        return code;
    }

    /// <summary>A code for the first administrator; null when there is an administrator who can sign in.</summary>
    public static async Task<string?> ForFirstAsync(NpgsqlDataSource source, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await OneAtATimeAsync(data, cancel);
        if (await AdministratorsAsync(data).AnyAsync(cancel))
        {
            return null;
        }

        var code = await MakeAsync(data, null, cancel);
        await transaction.CommitAsync(cancel);
        return code;
    }

    /// <summary>Everybody who can sign in and may administer.</summary>
    public static IQueryable<Person> AdministratorsAsync(ImbrekContext data) =>
        from person in data.Users
        join has in data.UserRoles on person.Id equals has.UserId
        join role in data.Roles on has.RoleId equals role.Id
        where role.Name == Roles.Administer && !person.Disabled
        select person;

    /// <summary>Until the transaction ends nobody else changes who may do what.</summary>
    public static Task OneAtATimeAsync(ImbrekContext data, CancellationToken cancel) => data.Database.ExecuteSqlRawAsync($"select pg_advisory_xact_lock({PeopleLock})", cancel);

    /// <exception cref="BadInputException">It is too short or too long.</exception>
    public static string Password(string? password, string member = "password") => password is { Length: >= ShortestPassword and <= LongestPassword }
        ? password
        : throw new BadInputException(member, $"a password has {ShortestPassword} to {LongestPassword} characters");

    /// <summary>A name to sign in by.</summary>
    /// <exception cref="BadInputException">It is none.</exception>
    public static string NameOf(string? name) => InputBounds.WhatIsWrongWithId(name ?? "", 60) is { } wrong ? throw new BadInputException("name", wrong) : name!;

    /// <summary>What people call somebody.</summary>
    /// <exception cref="BadInputException">It is too long.</exception>
    public static string DisplayNameOf(string? display, string name) => string.IsNullOrWhiteSpace(display) ? name
        : display.Trim() is { Length: <= InputBounds.Name } good ? good : throw new BadInputException("displayName", $"has at most {InputBounds.Name} characters");

    private static async Task<(InvitationRow Row, Person? Person)> FindAsync(string? code, ImbrekContext data, SignInThrottle throttle, HttpContext http, CancellationToken cancel)
    {
        var address = SignInEndpoints.AddressOf(http);
        if (throttle.Wait("", address) is { } wait)
        {
            throw new BadInputException("code", "too many wrong codes from where you are; wait and try again", 429, "too-many") { RetryAfter = wait };
        }

        var (id, now) = (RandomSecret.Hash(code ?? ""), SystemClock.Instance.GetCurrentInstant());
        var row = await data.Invitations.SingleOrDefaultAsync(i => i.Id == id && i.EndsAt > now, cancel);
        if (row is null)
        {
            throttle.Failed("", address);
            throw new BadInputException("code", "this address was used, or its time is over; ask whoever administers for another, or start the server again for the first", 404, "not-found");
        }

        return (row, row.PersonId is null ? null : await data.Users.SingleAsync(p => p.Id == row.PersonId, cancel));
    }

    private static async Task<Ok<WelcomeView>> LookAsync(LookRequest request, ImbrekContext data, SignInThrottle throttle, HttpContext http, CancellationToken cancel)
    {
        var (_, person) = await FindAsync(request.Code, data, throttle, http, cancel);
        return TypedResults.Ok(new WelcomeView(person?.UserName, person?.DisplayName));
    }

    private static async Task<Ok<Welcomed>> WelcomeAsync(
        WelcomeRequest request, ImbrekContext data, UserManager<Person> people, SessionStore sessions, SignInThrottle throttle, IClock clock, HttpContext http, CancellationToken cancel)
    {
        var password = Password(request.Password);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await OneAtATimeAsync(data, cancel);
        var (row, person) = await FindAsync(request.Code, data, throttle, http, cancel);
        if (person is null)
        {
            if (await AdministratorsAsync(data).AnyAsync(cancel))
            {
                throw new BadInputException("code", "there is an administrator already", 409, "not-now");
            }

            var name = NameOf(request.Name);
            person = new Person { UserName = name, DisplayName = DisplayNameOf(request.DisplayName, name) };
            Succeeded(await people.CreateAsync(person, password), "name");
            Succeeded(await people.AddToRoleAsync(person, Roles.Administer), "name");
            await LedgerTable.AppendAsync(data, clock.GetCurrentInstant(), name, "person-added", "", System.Text.Json.JsonSerializer.Serialize(new { name, roles = new[] { Roles.Administer } }), cancel);
        }
        else
        {
            if (await people.HasPasswordAsync(person))
            {
                Succeeded(await people.RemovePasswordAsync(person), "password");
            }

            Succeeded(await people.AddPasswordAsync(person, password), "password");
            await LedgerTable.AppendAsync(data, clock.GetCurrentInstant(), person.UserName!, "password-changed", "", "{}", cancel);
        }

        data.Invitations.Remove(row);
        await data.SaveChangesAsync(cancel);
        await transaction.CommitAsync(cancel);
        await sessions.EndOfAsync(person.Id, null, cancel);
        return TypedResults.Ok(new Welcomed(person.UserName!));
    }

    /// <exception cref="BadInputException">It did not.</exception>
    public static void Succeeded(IdentityResult result, string member)
    {
        if (!result.Succeeded)
        {
            throw new BadInputException(member, string.Join(" ", result.Errors.Select(e => e.Description)));
        }
    }
}
