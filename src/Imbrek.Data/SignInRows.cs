using NodaTime;

namespace Imbrek.Data;

/// <summary>A session of somebody signed in. It lives here and not in the cookie, so that it ends when somebody says so.</summary>
public sealed class SessionRow
{
    /// <summary>SHA-256 of what the cookie holds, in hexadecimal: who reads this table can sign in as nobody.</summary>
    public string Id { get; set; } = "";

    /// <summary>Whose it is.</summary>
    public string PersonId { get; set; } = "";

    /// <summary>The ticket, protected.</summary>
    public byte[] Ticket { get; set; } = [];

    /// <summary>When it ends unless it is used, by the machine's clock.</summary>
    public Instant IdleUntil { get; set; }

    /// <summary>When it ends however much it is used.</summary>
    public Instant EndsAt { get; set; }
}

/// <summary>A token by which a script, or whatever reads metrics, is known.</summary>
public sealed class TokenRow
{
    /// <summary>Its number.</summary>
    public Guid Id { get; set; }

    /// <summary>What people call it.</summary>
    public string Name { get; set; } = "";

    /// <summary>The one role it has.</summary>
    public string Role { get; set; } = "";

    /// <summary>SHA-256 of the token, in hexadecimal; the token itself is shown once and kept nowhere.</summary>
    public string Hash { get; set; } = "";

    /// <summary>Who made it.</summary>
    public string MadeBy { get; set; } = "";

    /// <summary>When, by the machine's clock, as all instants here.</summary>
    public Instant MadeAt { get; set; }

    /// <summary>When it ends.</summary>
    public Instant EndsAt { get; set; }

    /// <summary>When it was last used, to the minute.</summary>
    public Instant? UsedAt { get; set; }

    /// <summary>When somebody ended it before its time.</summary>
    public Instant? RevokedAt { get; set; }
}

/// <summary>A one-time address by which somebody sets their password, or the first administrator their name as well.</summary>
public sealed class InvitationRow
{
    /// <summary>SHA-256 of its code, in hexadecimal.</summary>
    public string Id { get; set; } = "";

    /// <summary>Whose password it sets; null for the first administrator, who is not there yet.</summary>
    public string? PersonId { get; set; }

    /// <summary>When it ends, by the machine's clock.</summary>
    public Instant EndsAt { get; set; }
}

/// <summary>What this installation is: one row.</summary>
public sealed class InstallationRow
{
    /// <summary>Always 1.</summary>
    public int Id { get; set; }

    /// <summary>Whether it has shown a demo, whose sign-ins everybody knows.</summary>
    public bool ShowedDemo { get; set; }

    /// <summary>The public part of the key the ledger's heads are signed with, as PEM.</summary>
    public string PublicKey { get; set; } = "";

    /// <summary>The private part, protected; null when it is kept in a file outside the database.</summary>
    public string? PrivateKey { get; set; }
}
