using Microsoft.AspNetCore.Identity;

namespace Imbrek.Data;

/// <summary>Somebody who signs in.</summary>
public sealed class Person : IdentityUser
{
    /// <summary>What people call them.</summary>
    public string DisplayName { get; set; } = "";

    /// <summary>Whether they may not sign in (any more).</summary>
    public bool Disabled { get; set; }

    /// <summary>Whether the sign-in came with a demo, so that everybody knows it.</summary>
    public bool FromDemo { get; set; }
}
