using System.Text.RegularExpressions;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Planning;

/// <summary>Names of sets from a pattern with tokens.</summary>
public static partial class SetNaming
{
    /// <summary>The pattern used when a task states none.</summary>
    public const string Default = "{database}-{kind}-{date}T{time}";

    /// <summary>So long that the name of a set, with the longest identifier of a database in it, can still be read.</summary>
    private const int Longest = 100;

    private static readonly string[] Tokens = ["database", "kind", "date", "time"];
    private static readonly LocalDatePattern Date = LocalDatePattern.CreateWithInvariantCulture("uuMMdd");
    private static readonly LocalTimePattern Time = LocalTimePattern.CreateWithInvariantCulture("HHmmss");

    /// <summary>What is wrong with a pattern; null when nothing is.</summary>
    public static string? WhatIsWrong(string pattern)
    {
        var tokens = Token().Matches(pattern).Select(m => m.Groups[1].Value).ToArray();
        return tokens.FirstOrDefault(t => !Tokens.Contains(t)) is { } unknown ? $"'{{{unknown}}}' is not one of {string.Join(", ", Tokens.Select(t => $"{{{t}}}"))}"
            : pattern.Length > Longest ? $"is longer than {Longest} characters"
            : InputBounds.WhatIsWrongWithId(Token().Replace(pattern, "x")) is { } wrong ? wrong
            : !tokens.Contains("date") || !tokens.Contains("time") || !tokens.Contains("database") || !tokens.Contains("kind") ? "must hold {database}, {kind}, {date} and {time}, or names would come twice"
            : null;
    }

    /// <summary>The name of a set. The hour that comes twice when the clock is put back is told apart by a letter.</summary>
    public static Id<BackupSet> Of(string pattern, Id<Database> database, SetKind kind, Instant at, DateTimeZone zone)
    {
        var local = at.InZone(zone);
        var second = zone.MapLocal(local.LocalDateTime) is { Count: 2 } map && map.Last().Offset == local.Offset;
        return new(Token().Replace(pattern, m => m.Groups[1].Value switch
        {
            "database" => database.Value,
            "kind" => kind.ToString().ToLowerInvariant(),
            "date" => Date.Format(local.Date),
            "time" => Time.Format(local.TimeOfDay) + (second ? "b" : ""),
            var other => other,
        }));
    }

    [GeneratedRegex(@"\{([a-z]*)\}")]
    private static partial Regex Token();
}
