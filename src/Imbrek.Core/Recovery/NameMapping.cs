using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;

namespace Imbrek.Core.Recovery;

/// <summary>
/// The names of files and accounts that a database brings to a host where some of them are taken (ways, section 15): what each is called there. Names that differ in case alone are the same, because not every file system
/// and engine tells them apart.
/// </summary>
public static class NameMapping
{
    private static readonly StringComparer Same = StringComparer.OrdinalIgnoreCase;

    /// <summary>One name.</summary>
    /// <param name="Kind">What it is of.</param>
    /// <param name="From">As the database brings it.</param>
    /// <param name="To">What it is called there.</param>
    /// <param name="TakenBy">Who has the name it brings there; null where nobody does.</param>
    public sealed record Row(NameKind Kind, string From, string To, string? TakenBy);

    /// <summary>What is wrong with what was wanted.</summary>
    /// <param name="Index">Which of what was wanted.</param>
    /// <param name="Member">Its member.</param>
    /// <param name="Why">What is wrong with it.</param>
    public sealed record Fault(int Index, string Member, string Why);

    /// <summary>Maps each name that is brought: as wanted; where nothing is wanted and it is taken, after the new database; otherwise it stays.</summary>
    /// <param name="names">What is brought, and what is taken there.</param>
    /// <param name="source">The database they are of.</param>
    /// <param name="made">What the new one is called.</param>
    /// <param name="wanted">What people want some of them to be called.</param>
    /// <returns>A row for each name, in the order in which they are brought, all names of a kind different and none taken; or the first fault of what was wanted.</returns>
    public static (IReadOnlyList<Row> Rows, Fault? Fault) Of(NamesAt names, string source, string made, IReadOnlyList<MappedName> wanted)
    {
        var by = names.Taken.GroupBy(t => t.Kind).ToDictionary(g => g.Key, g => g.GroupBy(t => t.Name, Same).ToDictionary(t => t.Key, t => t.First().By, Same));
        var (used, asked) = (new Dictionary<NameKind, HashSet<string>>(), new Dictionary<HeldName, string>());
        for (var i = 0; i < wanted.Count; i++)
        {
            var w = wanted[i];
            var held = new HeldName(w.Kind, w.From);
            if (!names.Held.Contains(held))
            {
                return ([], new(i, "from", $"it brings no {Word(w.Kind)} called '{InputBounds.Quote(w.From)}'"));
            }

            if (asked.ContainsKey(held))
            {
                return ([], new(i, "from", $"'{InputBounds.Quote(w.From)}' is mapped twice"));
            }

            if (w.To.Trim().Length == 0 || InputBounds.WhatIsWrong(w.To, InputBounds.Name) is not null || w.To.Trim() != w.To)
            {
                return ([], new(i, "to", InputBounds.WhatIsWrong(w.To, InputBounds.Name) ?? "give it a name, without spaces around it"));
            }

            if (TakenBy(w.Kind, w.To) is { } other)
            {
                return ([], new(i, "to", $"there is {Article(w.Kind)} called '{InputBounds.Quote(w.To)}' already: {other}"));
            }

            if (!Used(w.Kind).Add(w.To))
            {
                return ([], new(i, "to", $"two would be called '{InputBounds.Quote(w.To)}'"));
            }

            asked[held] = w.To;
        }

        // Those that nobody has keep their names, as far as people did not give them to others: only then names are made up.
        foreach (var h in names.Held.Where(h => !asked.ContainsKey(h) && TakenBy(h.Kind, h.Name) is null && Used(h.Kind).Add(h.Name)).ToArray())
        {
            asked[h] = h.Name;
        }

        return ([.. names.Held.Select(h => new Row(h.Kind, h.Name, asked.TryGetValue(h, out var to) ? to : After(h), TakenBy(h.Kind, h.Name)))], null);

        string? TakenBy(NameKind kind, string name) => by.TryGetValue(kind, out var there) && there.TryGetValue(name, out var whose) ? whose : null;

        HashSet<string> Used(NameKind kind) => used.TryGetValue(kind, out var names) ? names : used[kind] = new(Same);

        string After(HeldName h)
        {
            var name = h.Name.Contains(source, StringComparison.OrdinalIgnoreCase) ? h.Name.Replace(source, made, StringComparison.OrdinalIgnoreCase) : $"{h.Name}-{made}";
            var free = name;
            for (var n = 2; TakenBy(h.Kind, free) is not null || !Used(h.Kind).Add(free); n++)
            {
                free = $"{name}-{n}";
            }

            return free;
        }
    }

    /// <summary>Why a database cannot be made with names as they were mapped; null when it can.</summary>
    /// <param name="names">What it brings, and what is taken there, now.</param>
    /// <param name="mapped">What each was mapped to before.</param>
    public static string? WhyNot(NamesAt names, IReadOnlyList<MappedName> mapped) => names.Held.SequenceEqual(mapped.Select(m => new HeldName(m.Kind, m.From)))
        ? Of(names, "", "", mapped).Fault?.Why
        : "it brings other names of files and accounts than were mapped: look at them again";

    /// <summary>A kind of name, for people.</summary>
    private static string Word(NameKind kind) => kind == NameKind.File ? "file" : "account";

    private static string Article(NameKind kind) => kind == NameKind.File ? "a file" : "an account";
}
