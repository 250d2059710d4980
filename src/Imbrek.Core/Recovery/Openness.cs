using Imbrek.Core.Fleet;

namespace Imbrek.Core.Recovery;

/// <summary>Whether a copy is more open than what it is a copy of (ways, section 14): networks, accounts, who can read where it lies, encryption, as far as they are stated of both hosts.</summary>
public static class Openness
{
    /// <summary>In what the copy is more open, a line each; empty where it is not, or nothing is stated that would say so.</summary>
    /// <param name="source">The host of the database.</param>
    /// <param name="target">The host of the copy.</param>
    /// <param name="byRule">Whether only named hosts are let in, by a rule of the copy's own: then the networks of its host do not count.</param>
    public static IReadOnlyList<string> Of(Host source, Host target, bool byRule = false)
    {
        if (source.Id == target.Id)
        {
            return [];
        }

        var more = new List<string>();
        if (!byRule)
        {
            Add(source.OpenTo, target.OpenTo, "it can be reached from");
        }

        Add(source.SignsIn, target.SignsIn, "accounts may sign in that may not at its source:");
        Add(source.ReadBy, target.ReadBy, "what lies there can be read by");
        if (source.Encrypted && !target.Encrypted)
        {
            more.Add($"what lies on {target.Id} is not encrypted, at its source it is");
        }

        return more;

        // What is stated of neither says nothing; what is stated of the source alone may hide anything.
        void Add(IReadOnlyList<string> there, IReadOnlyList<string> here, string what)
        {
            if (here.Except(there).ToArray() is { Length: > 0 } further && there.Count > 0)
            {
                more.Add($"{what} {string.Join(", ", further)}");
            }
            else if (there.Count > 0 && here.Count == 0)
            {
                more.Add($"{what} nobody knows whom: it is not stated of {target.Id}");
            }
        }
    }
}
