using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Serialization;
using Imbrek.Core.Drivers;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>How a cluster is reached and where its log goes. Holds the name of a credential and never its value.</summary>
/// <param name="Database">What the fleet calls it.</param>
/// <param name="Address">Name or address of its machine.</param>
/// <param name="Port">Its port.</param>
/// <param name="User">The role Imbrek signs in as.</param>
/// <param name="SignInTo">The database it signs in to.</param>
/// <param name="Credential">The name of the credential; null where the cluster asks for none.</param>
/// <param name="LogStore">The store its log is received into.</param>
/// <param name="LogRoomBytes">How much log our slot may have the source keep before it is given up, so that it cannot fill the source.</param>
/// <param name="BackupBytesPerSecond">How many bytes a second a base backup may take from it; null for as many as it can.</param>
/// <param name="StandbyList">Its standbys that are watched; null for none.</param>
/// <param name="Aside">How everybody is kept out of it for now; null when nobody is.</param>
/// <param name="Placed">What was put in its place last, by which run; null before.</param>
/// <param name="Changing">What the change that was carried out on it last measured, and what it was about; null before.</param>
internal sealed record ClusterSpec(
    string Database, string Address, int Port, string User, string SignInTo, string? Credential, string LogStore, long LogRoomBytes, long? BackupBytesPerSecond = null, IReadOnlyList<StandbySpec>? StandbyList = null, KeptOut? Aside = null, Placed? Placed = null, Changing? Changing = null) : ISignIn
{
    /// <summary>Its standbys that are watched.</summary>
    [JsonIgnore]
    public IReadOnlyList<StandbySpec> Standbys => StandbyList?.Where(s => s.PromotedAt is null).ToArray() ?? [];

    /// <summary>The same once one of its standbys is its primary.</summary>
    public ClusterSpec At(StandbySpec primary) => this with { Address = primary.Address, Port = primary.Port, User = primary.User, SignInTo = primary.SignInTo, Credential = primary.Credential };

    /// <summary>The same with how everybody is kept out of it, or, with null, once nobody is.</summary>
    /// <exception cref="DriverException">A higher fence of that run is known.</exception>
    public ClusterSpec With(KeptOut? aside) => aside is { } now && Aside is { } was && now.Run == was.Run && now.Fence < was.Fence ? throw Stale(now.Run) : this with { Aside = aside };

    /// <summary>The same with how a change of it stands.</summary>
    /// <exception cref="DriverException">A higher fence of that run is known.</exception>
    public ClusterSpec With(Changing change) => Changing is { } was && change.Run == was.Run && change.Fence < was.Fence ? throw Stale(change.Run) : this with { Changing = change };

    /// <summary>Refuses the call of a process whose run another has taken up.</summary>
    public static DriverException Stale(Guid run) => new(DriverProblem.Stale, $"run {run} has been taken up by another process");

    /// <summary>The same while everybody is kept out of it: on a socket that nobody but its owner reaches.</summary>
    [JsonIgnore]
    public ClusterSpec OnSocket => Aside is { } aside ? this with { Address = aside.Socket, Credential = null } : this;

    /// <summary>Where clients find it when nobody is kept out.</summary>
    [JsonIgnore]
    public string UsualAddress => Aside?.Address ?? Address;

    /// <summary>The name of our slot at the source.</summary>
    [JsonIgnore]
    public string Slot => SlotOf("imbrek", Database);

    /// <summary>The name of a slot: lower case letters, digits and underscores, at most 63.</summary>
    public static string SlotOf(string prefix, string name)
    {
        var plain = string.Concat(name.ToLowerInvariant().Select(c => char.IsAsciiLetterOrDigit(c) ? c : '_'));
        var mark = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(name)))[..6];
        return $"{prefix}_{plain[..Math.Min(plain.Length, 54 - prefix.Length)]}_{mark}";
    }
}
