using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Imbrek.Core.Formats;
using NodaTime;

namespace Imbrek.Core.Evidence;

/// <summary>
/// Where a ledger stood at an instant, signed by the installation that keeps it. Whoever holds a head, or the public key, can tell a ledger
/// that was cut or written anew from the one that was kept: a chain of hashes alone can be computed again by anybody.
/// </summary>
/// <param name="Number">The number of the last entry; 0 for an empty ledger.</param>
/// <param name="Hash">Its hash; that of <see cref="LedgerEntry.Genesis"/> for an empty ledger.</param>
/// <param name="At">When it was signed.</param>
/// <param name="Key">The fingerprint of the key: SHA-256 of its public part (SubjectPublicKeyInfo), lower-case hexadecimal.</param>
/// <param name="Signature">ECDSA over P-256 and SHA-256 of what <see cref="Payload"/> gives, in the fixed-length format of IEEE P1363, base64.</param>
public sealed record LedgerHead(long Number, string Hash, Instant At, string Key, string Signature)
{
    /// <summary>Signs where a ledger stands.</summary>
    public static LedgerHead Sign(long number, string hash, Instant at, ECDsa key)
    {
        var written = Instants.Floor(at);
        var head = new LedgerHead(number, hash, written, FingerprintOf(key), "");
        return head with { Signature = Convert.ToBase64String(key.SignData(head.Payload(), HashAlgorithmName.SHA256)) };
    }

    /// <summary>Whether it was signed by the private part of a key.</summary>
    public bool IsSignedBy(ECDsa key)
    {
        var signature = new byte[Signature.Length];
        return Convert.TryFromBase64String(Signature, signature, out var length) && key.VerifyData(Payload(), signature.AsSpan(0, length), HashAlgorithmName.SHA256);
    }

    /// <summary>The fingerprint of a key.</summary>
    public static string FingerprintOf(ECDsa key) => Convert.ToHexStringLower(SHA256.HashData(key.ExportSubjectPublicKeyInfo()));

    /// <summary>What is signed: format, number, hash and instant, a line each.</summary>
    public byte[] Payload() => Encoding.UTF8.GetBytes(string.Create(CultureInfo.InvariantCulture, $"imbrek-ledger-head/1\n{Number}\n{Hash}\n{Instants.Write(At)}\n"));
}
