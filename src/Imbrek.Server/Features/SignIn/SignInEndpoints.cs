using System.Security.Claims;
using Imbrek.Data;
using Imbrek.Server.Features.People;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Antiforgery;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.SignIn;

/// <summary>Signing in and out, who one is, and one's own password.</summary>
internal static class SignInEndpoints
{
    public sealed record SignInRequest(string Name, string Password);

    public sealed record Me(string Name, string DisplayName, string[] Roles, string AntiforgeryToken);

    public sealed record PasswordRequest(string Current, string Wanted);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/sign-in", SignInAsync).AllowAnonymous().WithName("SignIn");
        app.MapPost("/api/sign-out", SignOutAsync).Needs(Roles.Look).InSession().WithName("SignOut");
        app.MapGet("/api/me", GetMe).Needs(Roles.Look).InSession().WithName("Me");
        app.MapPost("/api/me/password", ChangePasswordAsync).Needs(Roles.Look).InSession().WithName("ChangePassword");
    }

    /// <summary>Where a request comes from, as far as throttling is concerned.</summary>
    public static string AddressOf(HttpContext http) => http.Connection.RemoteIpAddress?.ToString() ?? "";

    private static async Task<Ok<Me>> SignInAsync(
        SignInRequest request, SignInManager<Person> manager, UserManager<Person> people, UnknownPerson unknown, SignInThrottle throttle, IAntiforgery antiforgery, HttpContext http)
    {
        var (name, address) = (request.Name ?? "", AddressOf(http));
        if (throttle.Wait(name, address) is { } wait)
        {
            throw new BadInputException("name", $"too many wrong passwords from where you are; wait {Core.Recovery.PlainDuration.Of(Math.Ceiling(wait.TotalSeconds))} and try again", 429, "too-many") { RetryAfter = wait };
        }

        // One answer, in one time, for a wrong name, a wrong password and somebody who may not sign in: which names exist is nobody's business.
        var person = await people.FindByNameAsync(name);
        var right = person?.PasswordHash is null ? unknown.Check(request.Password ?? "") : await people.CheckPasswordAsync(person, request.Password ?? "");
        if (person is null || !right || person.Disabled)
        {
            throttle.Failed(name, address);
            throw new BadInputException("password", "name or password is wrong", 401, "wrong-password");
        }

        throttle.Succeeded(name, address);
        await manager.SignInAsync(person, isPersistent: true);
        http.User = await manager.CreateUserPrincipalAsync(person);
        return TypedResults.Ok(Describe(http, antiforgery));
    }

    private static async Task<NoContent> SignOutAsync(SignInManager<Person> manager)
    {
        await manager.SignOutAsync();
        return TypedResults.NoContent();
    }

    private static Ok<Me> GetMe(HttpContext http, IAntiforgery antiforgery) => TypedResults.Ok(Describe(http, antiforgery));

    private static async Task<NoContent> ChangePasswordAsync(
        PasswordRequest request, UserManager<Person> people, SessionStore sessions, SignInThrottle throttle, ImbrekContext data, IClock clock, HttpContext http, CancellationToken cancel)
    {
        var person = await people.GetUserAsync(http.User) ?? throw new BadInputException("current", "sign in again", 401, "not-signed-in");
        var address = AddressOf(http);
        if (throttle.Wait(person.UserName!, address) is not null || !await people.CheckPasswordAsync(person, request.Current ?? ""))
        {
            throttle.Failed(person.UserName!, address);
            throw new BadInputException("current", "the password you have now is another");
        }

        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        var changed = await people.ChangePasswordAsync(person, request.Current!, Invitations.Password(request.Wanted, "wanted"));
        if (!changed.Succeeded)
        {
            throw new BadInputException("wanted", string.Join(" ", changed.Errors.Select(e => e.Description)));
        }

        await LedgerTable.AppendAsync(data, clock.GetCurrentInstant(), person.UserName!, "password-changed", "", "{}", cancel);
        await transaction.CommitAsync(cancel);

        // Whoever else is signed in with the old password is not any more.
        await sessions.EndOfAsync(person.Id, SessionStore.Of(http)?.Session, cancel);
        return TypedResults.NoContent();
    }

    private static Me Describe(HttpContext http, IAntiforgery antiforgery) => new(
        http.User.Identity!.Name!,
        http.User.FindFirstValue("display_name") ?? http.User.Identity.Name!,
        [.. http.User.FindAll(ClaimTypes.Role).Select(c => c.Value)],
        antiforgery.GetAndStoreTokens(http).RequestToken!);

    /// <summary>Somebody who does not exist, whose password takes as long to be found wrong as anybody's.</summary>
    internal sealed class UnknownPerson(IPasswordHasher<Person> hasher)
    {
        private readonly Person nobody = new();
        private readonly string hash = hasher.HashPassword(new Person(), RandomSecret.New());

        public bool Check(string password) => hasher.VerifyHashedPassword(nobody, hash, password) == PasswordVerificationResult.Success && nobody.Disabled;
    }
}
