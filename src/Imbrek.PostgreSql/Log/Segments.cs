using System.Globalization;

namespace Imbrek.PostgreSql.Log;

/// <summary>How a cluster's log is cut into files: each of one size, named by timeline and number.</summary>
/// <param name="Bytes">Bytes of a file; a power of two from 1 MiB to 1 GiB.</param>
internal readonly record struct Segments(int Bytes)
{
    /// <summary>The first position of the file that holds a position.</summary>
    public Lsn StartOf(Lsn position) => new(position.Value / Bytes * Bytes);

    /// <summary>The name of the file that holds a position.</summary>
    /// <param name="timeline">The timeline.</param>
    /// <param name="position">The position.</param>
    public string NameOf(int timeline, Lsn position)
    {
        var (number, perId) = (position.Value / Bytes, 0x1_0000_0000L / Bytes);
        return string.Create(CultureInfo.InvariantCulture, $"{timeline:X8}{number / perId:X8}{number % perId:X8}");
    }

    /// <summary>The timeline and the first position of a file; null when it is not named as one.</summary>
    public (int Timeline, Lsn Start)? Read(string name)
    {
        if (name.Length == 24
            && uint.TryParse(name.AsSpan(0, 8), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var timeline)
            && uint.TryParse(name.AsSpan(8, 8), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var id)
            && uint.TryParse(name.AsSpan(16, 8), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var low)
            && timeline <= int.MaxValue)
        {
            return ((int)timeline, new Lsn(((id * (0x1_0000_0000L / Bytes)) + low) * Bytes));
        }

        return null;
    }

    /// <summary>The first positions of the files that hold a stretch, in order. A stretch of quiet time at the end of a file holds nothing and needs no file of its own: the next one may not be there yet.</summary>
    /// <param name="from">The first position.</param>
    /// <param name="to">The position after the last.</param>
    public IEnumerable<Lsn> Over(Lsn from, Lsn to)
    {
        for (var at = StartOf(from).Value; at < to.Value; at += Bytes)
        {
            yield return new Lsn(at);
        }
    }

    /// <summary>The name of the file that tells how a timeline left its parent.</summary>
    public static string HistoryOf(int timeline) => string.Create(CultureInfo.InvariantCulture, $"{timeline:X8}.history");
}
