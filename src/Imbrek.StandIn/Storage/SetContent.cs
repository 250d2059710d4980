using System.Text;
using Imbrek.StandIn.Engine;

namespace Imbrek.StandIn.Storage;

/// <summary>The bytes of a backup set: what is written to a store and read back by a restore.</summary>
internal static class SetContent
{
    private const byte Pages = 1;
    private const byte Log = 2;

    /// <summary>Pages changed after a position (all of them for <see cref="long.MinValue"/>), with markers and position.</summary>
    public static byte[] OfPages(PageImage image, long changedAfter)
    {
        using var buffer = new MemoryStream(image.Pages * PageImage.PageBytes / 2);
        using var w = new BinaryWriter(buffer);
        w.Write(Pages);
        w.Write(changedAfter == long.MinValue);
        w.Write7BitEncodedInt(image.Pages);
        w.Write(image.Position);
        w.Write(image.Time);
        w.Write7BitEncodedInt(image.Markers.Count);
        foreach (var marker in image.Markers)
        {
            w.Write(marker.Name);
            w.Write(marker.Position);
            w.Write(marker.Time);
        }

        w.Write(image.Digest());
        for (var page = 0; page < image.Pages; page++)
        {
            if (image.ChangedAt[page] > changedAfter || changedAfter == long.MinValue)
            {
                w.Write7BitEncodedInt(page + 1);
                w.Write(image.ChangedAt[page]);
                w.Write(System.Runtime.InteropServices.MemoryMarshal.AsBytes(image.Rows.AsSpan(page * PageImage.RowsPerPage, PageImage.RowsPerPage)));
            }
        }

        w.Write7BitEncodedInt(0);
        w.Flush();
        return buffer.ToArray();
    }

    /// <summary>Log records between two positions.</summary>
    public static byte[] OfLog(IReadOnlyList<Transaction> records)
    {
        using var buffer = new MemoryStream(16 + (records.Count * 24));
        using var w = new BinaryWriter(buffer, Encoding.UTF8);
        w.Write(Log);
        w.Write7BitEncodedInt(records.Count);
        foreach (var t in records)
        {
            w.Write(t.Position);
            w.Write(t.Time);
            w.Write(t.Marker ?? "");
            w.Write7BitEncodedInt(t.Writes.Length);
            foreach (var write in t.Writes)
            {
                w.Write7BitEncodedInt(write.Row);
                w.Write(write.Value);
            }
        }

        w.Flush();
        return buffer.ToArray();
    }

    /// <summary>Restores pages: onto nothing for a base, onto <paramref name="onto"/> for a differential or incremental.</summary>
    /// <exception cref="InvalidDataException">What results does not have the digest recorded when the set was taken.</exception>
    public static PageImage RestorePages(byte[] content, PageImage? onto)
    {
        using var r = new BinaryReader(new MemoryStream(content));
        if (r.ReadByte() != Pages)
        {
            throw new InvalidDataException("the set holds no pages");
        }

        var whole = r.ReadBoolean();
        var pages = r.Read7BitEncodedInt();
        var image = whole ? new PageImage(pages) : onto ?? throw new InvalidDataException("the set needs the one it builds on");
        image.Position = r.ReadInt64();
        image.Time = r.ReadInt64();
        image.Markers.Clear();
        for (var i = r.Read7BitEncodedInt(); i > 0; i--)
        {
            image.Markers.Add(new Marker(r.ReadString(), r.ReadInt64(), r.ReadInt64()));
        }

        var digest = r.ReadString();
        for (var page = r.Read7BitEncodedInt(); page != 0; page = r.Read7BitEncodedInt())
        {
            image.ChangedAt[page - 1] = r.ReadInt64();
            var bytes = System.Runtime.InteropServices.MemoryMarshal.AsBytes(image.Rows.AsSpan((page - 1) * PageImage.RowsPerPage, PageImage.RowsPerPage));
            r.BaseStream.ReadExactly(bytes);
        }

        return image.Digest() == digest
            ? image
            : throw new InvalidDataException("the restored pages do not have the digest recorded when the set was taken");
    }

    /// <summary>Applies log records after the image's position, up to and including an instant, and before a position.</summary>
    public static void ApplyLog(byte[] content, PageImage image, long stopAt, long before = long.MaxValue)
    {
        foreach (var t in ReadLog(content))
        {
            if (t.Position > image.Position && t.Position < before && t.Time <= stopAt)
            {
                image.Apply(t);
            }
        }
    }

    /// <summary>The log records in some bytes.</summary>
    /// <exception cref="InvalidDataException">They hold no log.</exception>
    public static IEnumerable<Transaction> ReadLog(byte[] content)
    {
        using var r = new BinaryReader(new MemoryStream(content), Encoding.UTF8);
        if (r.ReadByte() != Log)
        {
            throw new InvalidDataException("the set holds no log");
        }

        for (var i = r.Read7BitEncodedInt(); i > 0; i--)
        {
            var (position, time, marker) = (r.ReadInt64(), r.ReadInt64(), r.ReadString());
            var writes = new RowWrite[r.Read7BitEncodedInt()];
            for (var k = 0; k < writes.Length; k++)
            {
                writes[k] = new RowWrite(r.Read7BitEncodedInt(), r.ReadUInt32());
            }

            yield return new Transaction(position, time, writes, marker.Length == 0 ? null : marker);
        }
    }
}
