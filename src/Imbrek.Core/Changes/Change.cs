using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;

namespace Imbrek.Core.Changes;

/// <summary>A change as a named script of an engine family (ways, section 10): a move to another version, a patch, statements. It is rehearsed on a copy and carried out on the change day, the same both times.</summary>
/// <param name="Name">What people call it.</param>
/// <param name="Engine">The family it is written for.</param>
/// <param name="KeepsOut">Whether everybody is kept out while it runs; where it moves to another version they always are.</param>
/// <param name="Parts">Its parts, in order; each is timed by itself.</param>
/// <param name="Queries">What is asked before and after it: the same answer as fast as before, or it broke something.</param>
public sealed record Change(string Name, Id<EngineProfile> Engine, bool KeepsOut, IReadOnlyList<ChangePart> Parts, IReadOnlyList<NamedQuery> Queries)
{
    /// <summary>How many parts a change may have, how many statements a part, and how many queries are asked.</summary>
    public const int MostParts = 50, MostStatements = 1000, MostQueries = 50;

    /// <summary>How many letters a statement may have.</summary>
    public const int LongestStatement = 20_000;

    private const int LongestName = 100, LongestVersion = 40;

    /// <summary>The version it ends at; null when it moves to none.</summary>
    public string? ToVersion => Parts.Select(p => p.UpgradesTo).LastOrDefault(v => v is not null);

    /// <summary>Whether nobody is let in while it runs.</summary>
    public bool IsOutage => KeepsOut || ToVersion is not null;

    /// <summary>What is wrong with it, by the member at fault; null when nothing is.</summary>
    public (string Member, string Why)? Fault()
    {
        if (WhatIsWrong(Name, LongestName) is { } name)
        {
            return ("name", name);
        }

        if (Parts.Count is 0 or > MostParts)
        {
            return ("parts", $"a change has 1 to {MostParts} parts");
        }

        for (var i = 0; i < Parts.Count; i++)
        {
            var (p, at) = (Parts[i], $"parts[{i}]");
            if (WhatIsWrong(p.Name, LongestName) is { } wrong)
            {
                return ($"{at}.name", wrong);
            }

            if (Parts.Take(i).Any(o => o.Name == p.Name))
            {
                return ($"{at}.name", $"two parts are called '{p.Name}'");
            }

            if (p.UpgradesTo is not null && WhatIsWrong(p.UpgradesTo, LongestVersion) is { } version)
            {
                return ($"{at}.upgradesTo", version);
            }

            if ((p.UpgradesTo is null) == (p.Statements.Count == 0))
            {
                return (at, "a part moves to another version or has statements, one of both");
            }

            if (p.Statements.Count > MostStatements)
            {
                return ($"{at}.statements", $"at most {MostStatements} statements");
            }

            for (var s = 0; s < p.Statements.Count; s++)
            {
                if (WhatIsWrong(p.Statements[s], LongestStatement, lines: true) is { } statement)
                {
                    return ($"{at}.statements[{s}]", statement);
                }
            }
        }

        if (Queries.Count > MostQueries)
        {
            return ("queries", $"at most {MostQueries} queries");
        }

        for (var i = 0; i < Queries.Count; i++)
        {
            if (WhatIsWrong(Queries[i].Name, LongestName) is { } wrong)
            {
                return ($"queries[{i}].name", wrong);
            }

            if (Queries.Take(i).Any(q => q.Name == Queries[i].Name))
            {
                return ($"queries[{i}].name", $"two queries are called '{Queries[i].Name}'");
            }

            if (WhatIsWrong(Queries[i].Query, LongestStatement, lines: true) is { } query)
            {
                return ($"queries[{i}].query", query);
            }
        }

        return null;
    }

    private static string? WhatIsWrong(string text, int most, bool lines = false) => string.IsNullOrWhiteSpace(text) ? "is empty" : InputBounds.WhatIsWrong(text, most, lines);
}

/// <summary>A part of a change: it moves to another version, or carries statements out one after another.</summary>
/// <param name="Name">Its name, unique in the change.</param>
/// <param name="UpgradesTo">The version it moves to; null for statements.</param>
/// <param name="Statements">The statements; none where it moves to another version.</param>
public sealed record ChangePart(string Name, string? UpgradesTo, IReadOnlyList<string> Statements);

/// <summary>A query that is asked before and after a change.</summary>
/// <param name="Name">Its name, unique in the change.</param>
/// <param name="Query">The query.</param>
public sealed record NamedQuery(string Name, string Query);
