using Imbrek.Data;
using Imbrek.Server.Features.SignIn;
using Imbrek.Server.Security;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;

namespace Imbrek.Server.Features.People;

/// <summary>Who is there when a server starts: the roles, the people of a demo, and never a demo's people in a real installation.</summary>
internal static class FirstStart
{
    /// <summary>The password of every demo sign-in.</summary>
    public const string Password = "tarnholt-demo-1";

    /// <summary>The demo sign-ins: name, what people call them, role.</summary>
    public static readonly (string Name, string Display, string Role)[] People =
    [
        ("look", "Liv (looks)", Roles.Look),
        ("operate", "Odd (operates)", Roles.Operate),
        ("plan", "Pia (plans)", Roles.Plan),
        ("approve", "Arne (approves)", Roles.Approve),
        ("admin", "Astrid (administers)", Roles.Administer),
    ];

    /// <summary>Makes roles and, for a demo, people; no error when they are there.</summary>
    /// <param name="services">Services of a scope.</param>
    /// <param name="demo">Whether a demo is shown.</param>
    /// <param name="endDemo">Whether sign-ins that came with a demo are to end.</param>
    /// <returns>Why the server must not start; null when it may.</returns>
    public static async Task<string?> PeopleAsync(IServiceProvider services, bool demo, bool endDemo)
    {
        var roles = services.GetRequiredService<RoleManager<IdentityRole>>();
        foreach (var role in Roles.All)
        {
            if (!await roles.RoleExistsAsync(role))
            {
                await roles.CreateAsync(new IdentityRole(role));
            }
        }

        var people = services.GetRequiredService<UserManager<Person>>();
        if (demo)
        {
            foreach (var (name, display, role) in People)
            {
                await AddAsync(people, name, display, Password, role, true);
            }

            return null;
        }

        foreach (var person in await people.Users.Where(p => p.FromDemo && !p.Disabled).ToListAsync())
        {
            if (!endDemo)
            {
                return "this PostgreSQL database has shown a demo, and everybody knows its sign-ins; use a new database, or end those sign-ins with --end-demo-sign-ins";
            }

            person.Disabled = true;
            await people.UpdateAsync(person);
            await services.GetRequiredService<SessionStore>().EndOfAsync(person.Id, null, CancellationToken.None);
        }

        if (Environment.GetEnvironmentVariable("IMBREK_ADMIN_PASSWORD") is { Length: > 0 } password && !await people.Users.AnyAsync())
        {
            await AddAsync(people, "admin", "Administrator", password, Roles.Administer, false);
        }

        return null;
    }

    private static async Task AddAsync(UserManager<Person> people, string name, string display, string password, string role, bool fromDemo)
    {
        if (await people.FindByNameAsync(name) is null)
        {
            var person = new Person { UserName = name, DisplayName = display, FromDemo = fromDemo };
            var made = await people.CreateAsync(person, password);
            if (!made.Succeeded)
            {
                throw new InvalidOperationException($"cannot make the sign-in {name}: {string.Join(" ", made.Errors.Select(e => e.Description))}");
            }

            await people.AddToRoleAsync(person, role);
        }
    }
}
