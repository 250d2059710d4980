using System.Text.Json.Serialization;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>How everybody is kept out of a cluster: its engine runs on a socket in its own data folder, which nobody but its owner may enter, and nowhere else.</summary>
/// <param name="Run">The run that keeps them out.</param>
/// <param name="Fence">The highest fence heard of it.</param>
/// <param name="Address">Where clients found it.</param>
/// <param name="Data">Its data folder.</param>
/// <param name="Options">The options its engine had before, for a shell.</param>
/// <param name="InsteadOf">The run in whose place this one does: let in by this one, they are kept out by that one still. Null where nobody kept them out before.</param>
internal sealed record KeptOut(Guid Run, long Fence, string Address, string Data, string Options, Guid? InsteadOf = null)
{
    /// <summary>Where its socket is.</summary>
    [JsonIgnore]
    public string Socket => SocketOf(Data);

    /// <summary>Where the socket of an engine would be.</summary>
    public static string SocketOf(string data) => Path.Combine(data, "imbrek_aside");
}
