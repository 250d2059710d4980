using Microsoft.AspNetCore.Identity;

namespace Imbrek.Data;

/// <summary>Somebody who signs in.</summary>
public sealed class Person : IdentityUser
{
    /// <summary>What people call them.</summary>
    public string DisplayName { get; set; } = "";
}
