using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Serialization;

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
internal sealed record ClusterSpec(
    string Database, string Address, int Port, string User, string SignInTo, string? Credential, string LogStore, long LogRoomBytes, long? BackupBytesPerSecond = null, IReadOnlyList<StandbySpec>? StandbyList = null) : ISignIn
{
    /// <summary>Its standbys that are watched.</summary>
    [JsonIgnore]
    public IReadOnlyList<StandbySpec> Standbys => StandbyList?.Where(s => s.PromotedAt is null).ToArray() ?? [];

    /// <summary>The same once one of its standbys is its primary.</summary>
    public ClusterSpec At(StandbySpec primary) => this with { Address = primary.Address, Port = primary.Port, User = primary.User, SignInTo = primary.SignInTo, Credential = primary.Credential };

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
