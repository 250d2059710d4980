using System.Security.Cryptography;
using System.Text;

namespace Imbrek.StandIn.Storage;

/// <summary>
/// The bytes of an encrypted set: AES-256-GCM under the key of a name, bound to the set they are of. The key itself is drawn from the
/// world's seed and its name; who has it is for the caller to know.
/// </summary>
internal static class SetEncryption
{
    /// <summary>Encrypts. The nonce comes from the set's name, which never names two contents, so the same seed gives the same bytes.</summary>
    public static byte[] Encrypt(byte[] content, ulong seed, string key, string set)
    {
        var sealedBytes = new byte[content.Length + AesGcm.TagByteSizes.MaxSize];
        using var aes = new AesGcm(Material(seed, key), AesGcm.TagByteSizes.MaxSize);
        aes.Encrypt(Nonce(set), content, sealedBytes.AsSpan(0, content.Length), sealedBytes.AsSpan(content.Length));
        return sealedBytes;
    }

    /// <summary>Decrypts.</summary>
    /// <exception cref="InvalidDataException">The bytes are not those of this set under this key.</exception>
    public static byte[] Decrypt(byte[] sealedBytes, ulong seed, string key, string set)
    {
        var content = new byte[Math.Max(0, sealedBytes.Length - AesGcm.TagByteSizes.MaxSize)];
        using var aes = new AesGcm(Material(seed, key), AesGcm.TagByteSizes.MaxSize);
        try
        {
            aes.Decrypt(Nonce(set), sealedBytes.AsSpan(0, content.Length), sealedBytes.AsSpan(content.Length), content);
            return content;
        }
        catch (Exception e) when (e is AuthenticationTagMismatchException or ArgumentException)
        {
            throw new InvalidDataException($"the bytes of {set} do not open with key {key}", e);
        }
    }

    private static byte[] Material(ulong seed, string key) => SHA256.HashData(Encoding.UTF8.GetBytes($"{seed}/{key}"));

    private static byte[] Nonce(string set) => SHA256.HashData(Encoding.UTF8.GetBytes(set))[..AesGcm.NonceByteSizes.MaxSize];
}
