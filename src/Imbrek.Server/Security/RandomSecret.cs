using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;

namespace Imbrek.Server.Security;

/// <summary>Numbers that nobody can guess, and what is kept of them.</summary>
internal static class RandomSecret
{
    private const int Bytes = 32;

    /// <summary>A new one, of letters, digits, <c>-</c> and <c>_</c>.</summary>
    public static string New() => Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(Bytes));

    /// <summary>What is kept of it: SHA-256 in hexadecimal. It has no salt because what is hashed is random itself.</summary>
    public static string Hash(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));
}
