using System.Buffers.Binary;
using System.Security.Cryptography;

namespace Imbrek.StandIn.Engine;

/// <summary>
/// The real bytes of a simulated database: pages of rows, the marker rows written so far, and how far the log has been applied.
/// </summary>
internal sealed class PageImage
{
    public const int RowsPerPage = 16;
    public const int PageBytes = RowsPerPage * 4;

    /// <summary>What a bad change writes into the rows it cancels.</summary>
    public const uint Cancelled = 0xFFFF_FFFF;

    public PageImage(int pages)
    {
        Rows = new uint[pages * RowsPerPage];
        ChangedAt = new long[pages];
    }

    public uint[] Rows { get; }

    /// <summary>For each page the position of the last transaction that wrote it: what differentials and incrementals go by.</summary>
    public long[] ChangedAt { get; }

    public List<Marker> Markers { get; } = [];

    public long Position { get; set; }

    /// <summary>When the last transaction applied was committed, milliseconds.</summary>
    public long Time { get; set; }

    public int Pages => ChangedAt.Length;

    public void Apply(Transaction t)
    {
        foreach (var write in t.Writes)
        {
            Rows[write.Row] = write.Value;
            ChangedAt[write.Row / RowsPerPage] = t.Position;
        }

        if (t.Marker is not null)
        {
            Markers.Add(new Marker(t.Marker, t.Position, t.Time));
        }

        (Position, Time) = (t.Position, t.Time);
    }

    /// <summary>One that holds the same and lives by itself.</summary>
    public PageImage Copied()
    {
        var copy = new PageImage(Pages) { Position = Position, Time = Time };
        Rows.CopyTo(copy.Rows, 0);
        ChangedAt.CopyTo(copy.ChangedAt, 0);
        copy.Markers.AddRange(Markers);
        return copy;
    }

    /// <summary>SHA-256 over rows, position and markers: two images with the same digest hold the same data.</summary>
    public string Digest()
    {
        using var sha = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        sha.AppendData(System.Runtime.InteropServices.MemoryMarshal.AsBytes(Rows.AsSpan()));
        Span<byte> position = stackalloc byte[8];
        BinaryPrimitives.WriteInt64LittleEndian(position, Position);
        sha.AppendData(position);
        foreach (var marker in Markers)
        {
            sha.AppendData(System.Text.Encoding.UTF8.GetBytes(marker.Name));
        }

        return Convert.ToHexStringLower(sha.GetHashAndReset());
    }
}
