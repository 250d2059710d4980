using System.Text;
using NodaTime;

namespace Imbrek.Core.Formats;

/// <summary>
/// How large a thing from outside may be. Whatever is read, from files, requests or the database, is held against these before it is kept or
/// computed with, so that no sum, span or text can overflow later. What a fault says of a bound comes from here too.
/// </summary>
public static class InputBounds
{
    /// <summary>The first instant that may be named: the beginning of 1900.</summary>
    public static readonly Instant Earliest = Instant.FromUtc(1900, 1, 1, 0, 0);

    /// <summary>The last instant that may be named: the end of 2200.</summary>
    public static readonly Instant Latest = Instant.FromUtc(2201, 1, 1, 0, 0) - Duration.FromMilliseconds(1);

    /// <summary>The longest name, identifier or word, in UTF-16 units.</summary>
    public const int Name = 200;

    /// <summary>The longest name of a set: that of its database, and what its pattern adds.</summary>
    public const int SetName = 400;

    /// <summary>The longest reason, note or query that people write.</summary>
    public const int Reason = 2_000;

    /// <summary>The longest recurrence in words; a rule may be as long as a reason.</summary>
    public const int Words = 300;

    /// <summary>The most bytes of one thing: 4 petabytes, so that a million of them still add up in 64 bits.</summary>
    public const long Bytes = 4_000_000_000_000_000;

    /// <summary>The largest rate, in bytes per second.</summary>
    public const double Rate = 1e15;

    /// <summary>The longest span, in seconds: about 95 years.</summary>
    public const double Seconds = 3e9;

    /// <summary>The shortest span above nothing, in seconds; spans are kept to the millisecond.</summary>
    public const double ShortestSeconds = 0.001;

    /// <summary>How many replicas may feed each other one after another.</summary>
    public const int Feeders = 16;

    /// <summary>The most faults that are listed of one file; more are counted only.</summary>
    public const int Faults = 1_000;

    /// <summary>Whether an instant may be named.</summary>
    public static bool Allows(Instant at) => at >= Earliest && at <= Latest;

    /// <summary>Whether a local time may be named.</summary>
    public static bool Allows(LocalDateTime at) => at.Year is >= 1900 and <= 2200;

    /// <summary>What is wrong with a text by itself; null when nothing is. Line ends and tabs are allowed where people write freely.</summary>
    /// <param name="text">The text.</param>
    /// <param name="most">How long it may be.</param>
    /// <param name="lines">Whether it may hold line ends and tabs.</param>
    public static string? WhatIsWrong(ReadOnlySpan<char> text, int most, bool lines = false)
    {
        if (text.Length > most)
        {
            return $"is longer than {most} characters";
        }

        for (var i = 0; i < text.Length; i++)
        {
            var c = text[i];
            if (char.IsControl(c) && !(lines && c is '\n' or '\r' or '\t'))
            {
                return $"holds a control character (U+{(int)c:X4})";
            }

            if (char.IsSurrogate(c) && (i + 1 >= text.Length || !char.IsSurrogatePair(c, text[i + 1])))
            {
                return $"holds half a character (U+{(int)c:X4})";
            }

            i += char.IsHighSurrogate(c) ? 1 : 0;
        }

        return null;
    }

    /// <summary>
    /// What is wrong with an identifier; null when nothing is. Identifiers become names of files, instances and words of scripts:
    /// letters, digits, <c>.</c>, <c>_</c> and <c>-</c>, not a dash at the front, not dots alone.
    /// </summary>
    /// <param name="id">The identifier.</param>
    /// <param name="most">How long it may be.</param>
    public static string? WhatIsWrongWithId(ReadOnlySpan<char> id, int most = Name)
    {
        if (id.IsEmpty || id.Length > most)
        {
            return $"must have 1 to {most} characters";
        }

        foreach (var c in id)
        {
            if (!char.IsAsciiLetterOrDigit(c) && c is not ('.' or '_' or '-'))
            {
                return "may hold letters (a to z), digits, '.', '_' and '-' only";
            }
        }

        return id[0] == '-' ? "may not begin with '-'" : id.Trim('.').IsEmpty ? "may not be dots alone" : null;
    }

    /// <summary>A text as it may be shown in a message: shortened, and without what a terminal would act upon.</summary>
    public static string Quote(string text)
    {
        const int Shown = 80;
        var said = new StringBuilder(Math.Min(text.Length, Shown) + 1);
        foreach (var rune in text.EnumerateRunes())
        {
            if (said.Length >= Shown)
            {
                return said.Append('…').ToString();
            }

            said.Append(Rune.IsControl(rune) ? Rune.ReplacementChar : rune);
        }

        return said.ToString();
    }
}
