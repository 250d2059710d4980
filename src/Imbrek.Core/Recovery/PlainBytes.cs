using System.Globalization;

namespace Imbrek.Core.Recovery;

/// <summary>Bytes in the words the product shows: "4.2 GB", "310 kB".</summary>
public static class PlainBytes
{
    /// <summary>In the largest unit of which there is one, to a tenth.</summary>
    /// <param name="bytes">Bytes, at least 0.</param>
    public static string Of(long bytes) => bytes switch
    {
        >= 1_000_000_000 => string.Create(CultureInfo.InvariantCulture, $"{bytes / 1e9:0.#} GB"),
        >= 1_000_000 => string.Create(CultureInfo.InvariantCulture, $"{bytes / 1e6:0.#} MB"),
        >= 1_000 => string.Create(CultureInfo.InvariantCulture, $"{bytes / 1e3:0.#} kB"),
        _ => string.Create(CultureInfo.InvariantCulture, $"{bytes} bytes"),
    };
}
