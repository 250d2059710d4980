using System.Security.Claims;
using Imbrek.Data;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Antiforgery;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Identity;

namespace Imbrek.Server.Features.SignIn;

/// <summary>Signing in and out, and who one is.</summary>
internal static class SignInEndpoints
{
    public sealed record SignInRequest(string Name, string Password);

    public sealed record Me(string Name, string DisplayName, string[] Roles, string AntiforgeryToken);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapPost("/api/sign-in", SignInAsync).AllowAnonymous().WithName("SignIn");
        app.MapPost("/api/sign-out", SignOutAsync).Needs(Roles.Look).WithName("SignOut");
        app.MapGet("/api/me", GetMe).Needs(Roles.Look).WithName("Me");
    }

    private static async Task<Ok<Me>> SignInAsync(SignInRequest request, SignInManager<Person> manager, UserManager<Person> people, IAntiforgery antiforgery, HttpContext http)
    {
        // One answer for a wrong name and a wrong password: which names exist is nobody's business.
        var person = await people.FindByNameAsync(request.Name ?? "");
        var result = person is null
            ? SignInResult.Failed
            : await manager.PasswordSignInAsync(person, request.Password ?? "", isPersistent: true, lockoutOnFailure: true);
        if (!result.Succeeded)
        {
            throw result.IsLockedOut
                ? new BadInputException("name", "too many wrong passwords; wait five minutes and try again", 423, "locked-out")
                : new BadInputException("password", "name or password is wrong", 401, "wrong-password");
        }

        http.User = await manager.CreateUserPrincipalAsync(person!);
        return TypedResults.Ok(Describe(http, antiforgery));
    }

    private static async Task<NoContent> SignOutAsync(SignInManager<Person> manager)
    {
        await manager.SignOutAsync();
        return TypedResults.NoContent();
    }

    private static Ok<Me> GetMe(HttpContext http, IAntiforgery antiforgery) => TypedResults.Ok(Describe(http, antiforgery));

    private static Me Describe(HttpContext http, IAntiforgery antiforgery) => new(
        http.User.Identity!.Name!,
        http.User.FindFirstValue("display_name") ?? http.User.Identity.Name!,
        [.. http.User.FindAll(ClaimTypes.Role).Select(c => c.Value)],
        antiforgery.GetAndStoreTokens(http).RequestToken!);
}
