using System.Security.Cryptography;

namespace Imbrek.Core.Evidence;

/// <summary>
/// Checks a ledger entry by entry, as it is read: numbers without gaps from 1, each hash right, each entry chained to the one before, and at
/// the end the head. It holds one entry at a time, however long the ledger is.
/// </summary>
/// <param name="key">The public key of the installation; null to believe any head.</param>
/// <param name="mustHold">The hash of a head known from elsewhere, which one of the entries must have; null when none is known.</param>
public sealed class LedgerCheck(ECDsa? key = null, string? mustHold = null)
{
    private string previous = LedgerEntry.Genesis;
    private bool held = mustHold is null || mustHold == LedgerEntry.Genesis;

    /// <summary>How many entries there were.</summary>
    public long Entries { get; private set; }

    /// <summary>The last entry; null before the first.</summary>
    public LedgerEntry? Last { get; private set; }

    /// <summary>The first entry; null before it came.</summary>
    public LedgerEntry? First { get; private set; }

    /// <summary>The head; null before it came.</summary>
    public LedgerHead? Head { get; private set; }

    /// <summary>What is wrong; null as long as nothing is. Nothing is looked at after the first thing wrong.</summary>
    public string? Wrong { get; private set; }

    /// <summary>Looks at the next entry.</summary>
    public void Add(LedgerEntry e)
    {
        Wrong ??= Head is not null ? $"entry {e.Number} stands behind the head"
            : e.Number != Entries + 1 ? $"entry {Entries + 1} is missing: the next one there is {e.Number}"
            : e.Previous != previous ? $"entry {e.Number} is not chained to the one before: it names {Short(e.Previous)}, the entry before has {Short(previous)}"
            : e.ComputeHash() != e.Hash ? $"entry {e.Number} was changed after it was written: its hash does not match"
            : null;
        if (Wrong is null)
        {
            First ??= e;
            (Last, previous, Entries) = (e, e.Hash, Entries + 1);
            held |= e.Hash == mustHold;
        }
    }

    /// <summary>Looks at the head, which stands behind the last entry.</summary>
    public void Add(LedgerHead head)
    {
        Wrong ??= Head is not null ? "there is more than one head"
            : head.Number != Entries || head.Hash != previous ? $"the head names entry {head.Number} with {Short(head.Hash)}, the last one here is entry {Entries} with {Short(previous)}: entries were cut, or written anew"
            : key is not null && !head.IsSignedBy(key) ? "the head is not signed by this key: the ledger is another installation's, or was written anew"
            : null;
        Head = head;
    }

    /// <summary>Looks at the next line of an exported ledger.</summary>
    /// <exception cref="FormatException">It is neither an entry nor a head.</exception>
    public void AddLine(string line)
    {
        switch (LedgerFile.ReadLine(line))
        {
            case ({ } entry, _):
                Add(entry);
                break;
            case (_, { } head):
                Add(head);
                break;
        }
    }

    /// <summary>Says what is wrong with the whole, once all was added; null when it holds.</summary>
    /// <param name="needsHead">Whether it must have a head: an export has one.</param>
    public string? WhatIsWrong(bool needsHead) => Wrong
        ?? (!held ? $"no entry has the hash {Short(mustHold!)} of the head that is known: its end was cut, or it was written anew"
            : needsHead && Head is null && (key is not null || mustHold is null || mustHold != previous) ? "its head is missing: the end was cut"
            : null);

    private static string Short(string hash) => hash.Length <= 12 ? hash : $"{hash[..12]}…";
}
