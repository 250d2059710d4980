using System.Security.Claims;
using Imbrek.Data;
using Microsoft.AspNetCore.Identity;
using Microsoft.Extensions.Options;

namespace Imbrek.Server.Features.SignIn;

/// <summary>Puts the name people call somebody into their claims.</summary>
internal sealed class PersonClaims(UserManager<Person> people, RoleManager<IdentityRole> roles, IOptions<IdentityOptions> options)
    : UserClaimsPrincipalFactory<Person, IdentityRole>(people, roles, options)
{
    /// <inheritdoc/>
    protected override async Task<ClaimsIdentity> GenerateClaimsAsync(Person user)
    {
        var identity = await base.GenerateClaimsAsync(user);
        identity.AddClaim(new Claim("display_name", user.DisplayName));
        return identity;
    }
}
