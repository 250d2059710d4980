using System.Security.Cryptography;
using System.Text;
using Imbrek.Core.Formats;
using NodaTime;

namespace Imbrek.Core.Evidence;

/// <summary>One entry of the evidence ledger, chained by hash to the one before.</summary>
/// <param name="Number">Its number, from 1, without gaps.</param>
/// <param name="At">When it was written, on the world's clock.</param>
/// <param name="Who">Who acted.</param>
/// <param name="Kind">What kind of entry: <c>restore</c>, <c>import</c>, <c>incident</c>, …</param>
/// <param name="Database">The database concerned; empty when none is.</param>
/// <param name="Body">What happened, as JSON text; hashed byte for byte.</param>
/// <param name="Previous">Hash of the entry before; 64 zeros for the first.</param>
/// <param name="Hash">Hash of this entry, lower-case hexadecimal SHA-256.</param>
public sealed record LedgerEntry(
    long Number,
    Instant At,
    string Who,
    string Kind,
    string Database,
    string Body,
    string Previous,
    string Hash)
{
    /// <summary>What the first entry names as the hash before it.</summary>
    public static readonly string Genesis = new('0', 64);

    /// <summary>Makes the entry that follows one with hash <paramref name="previous"/>.</summary>
    public static LedgerEntry After(string previous, long number, Instant at, string who, string kind, string database, string body)
    {
        // Hashed as written, so kept as written: to the millisecond.
        var written = Instants.Floor(at);
        var entry = new LedgerEntry(number, written, who, kind, database, body, previous, "");
        return entry with { Hash = entry.ComputeHash() };
    }

    /// <summary>SHA-256 over previous hash, number, instant, who, kind, database and body, each preceded by its length in bytes.</summary>
    public string ComputeHash()
    {
        using var sha = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var part in (ReadOnlySpan<string>)[Previous, Number.ToString(System.Globalization.CultureInfo.InvariantCulture), Instants.Write(At), Who, Kind, Database, Body])
        {
            var bytes = Encoding.UTF8.GetBytes(part);
            sha.AppendData(Encoding.UTF8.GetBytes($"{bytes.Length}:"));
            sha.AppendData(bytes);
        }

        return Convert.ToHexStringLower(sha.GetHashAndReset());
    }
}
