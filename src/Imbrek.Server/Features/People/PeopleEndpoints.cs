using System.Text.Json;
using Imbrek.Data;
using Imbrek.Server.Features.SignIn;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace Imbrek.Server.Features.People;

/// <summary>Who may sign in, and what they may do. Each change is in the ledger and ends the sessions of whom it concerns.</summary>
internal static class PeopleEndpoints
{
    public sealed record PersonView(string Name, string DisplayName, IReadOnlyList<string> Roles, bool Disabled, bool HasPassword, bool FromDemo);

    public sealed record AddRequest(string Name, string? DisplayName, IReadOnlyList<string> Roles);

    public sealed record ChangeRequest(string? DisplayName, IReadOnlyList<string> Roles, bool Disabled);

    /// <summary>A one-time address, shown once.</summary>
    public sealed record Invited(string Path, double GoodForHours);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/people", ListAsync).Needs(Roles.Administer).InSession().WithName("People");
        app.MapPost("/api/people", AddAsync).Needs(Roles.Administer).InSession().WithName("AddPerson");
        app.MapPut("/api/people/{name}", ChangeAsync).Needs(Roles.Administer).InSession().WithName("ChangePerson");
        app.MapPost("/api/people/{name}/reset", ResetAsync).Needs(Roles.Administer).InSession().WithName("ResetPassword");
    }

    private static async Task<Ok<IReadOnlyList<PersonView>>> ListAsync(ImbrekContext data, CancellationToken cancel)
    {
        var roles = (await (from has in data.UserRoles join role in data.Roles on has.RoleId equals role.Id select new { has.UserId, role.Name }).ToListAsync(cancel)).ToLookup(r => r.UserId, r => r.Name!);
        var people = await data.Users.AsNoTracking().OrderBy(p => p.UserName).ToListAsync(cancel);
        return TypedResults.Ok<IReadOnlyList<PersonView>>(
            [.. people.Select(p => new PersonView(p.UserName!, p.DisplayName, [.. Roles.All.Where(roles[p.Id].Contains)], p.Disabled, p.PasswordHash is not null, p.FromDemo))]);
    }

    private static async Task<Created<Invited>> AddAsync(AddRequest request, ImbrekContext data, UserManager<Person> people, IClock clock, HttpContext http, CancellationToken cancel)
    {
        var name = Invitations.NameOf(request.Name);
        var roles = RolesOf(request.Roles);
        var display = Invitations.DisplayNameOf(request.DisplayName, name);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await Invitations.OneAtATimeAsync(data, cancel);
        if (await people.FindByNameAsync(name) is not null)
        {
            throw new BadInputException("name", $"there is a '{name}' already", 409, "there-already");
        }

        var person = new Person { UserName = name, DisplayName = display };
        Invitations.Succeeded(await people.CreateAsync(person), "name");
        Invitations.Succeeded(await people.AddToRolesAsync(person, roles), "roles");
        await NoteAsync(data, clock, http, "person-added", new { name, roles }, cancel);
        var code = await Invitations.MakeAsync(data, person.Id, cancel);
        await transaction.CommitAsync(cancel);
        return TypedResults.Created($"/api/people/{name}", View(code));
    }

    private static async Task<NoContent> ChangeAsync(
        string name, ChangeRequest request, ImbrekContext data, UserManager<Person> people, SessionStore sessions, IClock clock, HttpContext http, CancellationToken cancel)
    {
        var roles = RolesOf(request.Roles);
        var display = Invitations.DisplayNameOf(request.DisplayName, name);
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await Invitations.OneAtATimeAsync(data, cancel);
        var person = await FindAsync(people, name);
        var had = await people.GetRolesAsync(person);
        person.DisplayName = display;
        person.Disabled = request.Disabled;
        Invitations.Succeeded(await people.UpdateAsync(person), "displayName");
        Invitations.Succeeded(await people.RemoveFromRolesAsync(person, had.Except(roles)), "roles");
        Invitations.Succeeded(await people.AddToRolesAsync(person, roles.Except(had)), "roles");
        if (!await Invitations.AdministratorsAsync(data).AnyAsync(cancel))
        {
            throw new BadInputException(request.Disabled ? "disabled" : "roles", $"{name} is the last who administers: nobody could change this again", 409, "last-administrator");
        }

        await NoteAsync(data, clock, http, "person-changed", new { name, roles, disabled = request.Disabled }, cancel);
        await transaction.CommitAsync(cancel);
        if (request.Disabled || !had.ToHashSet().SetEquals(roles))
        {
            await sessions.EndOfAsync(person.Id, null, cancel);
        }

        return TypedResults.NoContent();
    }

    /// <summary>Takes a password away and gives an address to set another; whoever is signed in with it is not any more.</summary>
    private static async Task<Ok<Invited>> ResetAsync(string name, ImbrekContext data, UserManager<Person> people, SessionStore sessions, IClock clock, HttpContext http, CancellationToken cancel)
    {
        await using var transaction = await data.Database.BeginTransactionAsync(cancel);
        await Invitations.OneAtATimeAsync(data, cancel);
        var person = await FindAsync(people, name);
        if (person.UserName == http.User.Identity!.Name)
        {
            throw new BadInputException("name", "change your own password under your name at the top right", 409, "yourself");
        }

        if (await people.HasPasswordAsync(person))
        {
            Invitations.Succeeded(await people.RemovePasswordAsync(person), "name");
        }

        await NoteAsync(data, clock, http, "password-reset", new { name }, cancel);
        var code = await Invitations.MakeAsync(data, person.Id, cancel);
        await transaction.CommitAsync(cancel);
        await sessions.EndOfAsync(person.Id, null, cancel);
        return TypedResults.Ok(View(code));
    }

    private static Invited View(string code) => new($"/welcome#{code}", Invitations.Good.TotalHours);

    private static async Task<Person> FindAsync(UserManager<Person> people, string name) =>
        await people.FindByNameAsync(name) ?? throw new BadInputException("name", $"there is no '{name}'", 404, "not-found");

    private static string[] RolesOf(IReadOnlyList<string>? roles) => roles is { Count: > 0 } && roles.All(Roles.All.Contains)
        ? [.. roles.Distinct()]
        : throw new BadInputException("roles", $"name at least one of {string.Join(", ", Roles.All)}");

    internal static Task NoteAsync(ImbrekContext data, IClock clock, HttpContext http, string kind, object body, CancellationToken cancel) =>
        LedgerTable.AppendAsync(data, clock.GetCurrentInstant(), http.User.Identity!.Name!, kind, "", JsonSerializer.Serialize(body), cancel);
}
