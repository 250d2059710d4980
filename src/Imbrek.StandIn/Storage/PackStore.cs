using System.IO.Hashing;
using System.Text;

namespace Imbrek.StandIn.Storage;

/// <summary>
/// The folder of one store: an append-only pack file with the bytes of the copies, and an index with place, length and CRC-32 of
/// each. A crash can leave bytes without an index entry, never an entry without its bytes.
/// </summary>
internal sealed class PackStore : IDisposable
{
    /// <summary>So many entries of an index are read at once, whatever they tell of.</summary>
    private const int Few = 10_000;

    private readonly FileStream pack;
    private readonly FileStream index;
    private readonly Dictionary<string, Entry> entries = [];
    private readonly MemoryStream pendingBytes = new();
    private readonly MemoryStream pendingIndex = new();
    private long flushed;

    public PackStore(string folder)
    {
        Directory.CreateDirectory(folder);
        pack = new FileStream(Path.Combine(folder, "copies.pack"), FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.ReadWrite, 1);
        flushed = pack.Length;
        index = OpenIndex(Path.Combine(folder, "copies.index"));
    }

    private readonly record struct Entry(long Offset, int Length, uint Crc);

    /// <summary>Bytes held, removed copies included.</summary>
    public long Length => flushed + pendingBytes.Length;

    /// <summary>Writes a copy; the same key again replaces what it named.</summary>
    public void Write(string key, byte[] content)
    {
        var entry = new Entry(Length, content.Length, Crc32.HashToUInt32(content));
        pendingBytes.Write(content);
        AppendIndex(key, entry);
        entries[key] = entry;
        if (pendingBytes.Length > 1 << 20)
        {
            Flush();
        }
    }

    /// <summary>Makes what was written last: bytes first, then the index that names them.</summary>
    public void Flush()
    {
        Drain(pendingBytes, pack);
        flushed = pack.Length;
        Drain(pendingIndex, index);
    }

    /// <summary>Reads a copy back and checks it.</summary>
    /// <exception cref="FileNotFoundException">There is no such copy.</exception>
    /// <exception cref="InvalidDataException">Its bytes are not those that were written.</exception>
    public byte[] Read(string key)
    {
        if (!entries.TryGetValue(key, out var entry))
        {
            throw new FileNotFoundException($"the store has no bytes of {key}");
        }

        var content = new byte[entry.Length];
        var read = entry.Length;
        if (entry.Offset >= flushed)
        {
            pendingBytes.GetBuffer().AsSpan((int)(entry.Offset - flushed), entry.Length).CopyTo(content);
        }
        else
        {
            read = RandomAccess.Read(pack.SafeFileHandle, content, entry.Offset);
        }

        if (read != entry.Length || Crc32.HashToUInt32(content) != entry.Crc)
        {
            throw new InvalidDataException($"the bytes of {key} are not those that were written (checksum differs)");
        }

        return content;
    }

    public bool Has(string key) => entries.ContainsKey(key);

    /// <summary>Forgets a copy. Its bytes stay in the pack until it is rewritten.</summary>
    public void Remove(string key)
    {
        if (entries.Remove(key))
        {
            AppendIndex(key, new Entry(0, -1, 0));
        }
    }

    /// <summary>Flips one bit of a copy on disk, as a failing disk would.</summary>
    public void Damage(string key)
    {
        Flush();
        var entry = entries[key];
        var at = entry.Offset + (entry.Length / 2);
        Span<byte> one = stackalloc byte[1];
        RandomAccess.Read(pack.SafeFileHandle, one, at);
        one[0] ^= 0x10;
        RandomAccess.Write(pack.SafeFileHandle, one, at);
    }

    public void Dispose()
    {
        Flush();
        pack.Dispose();
        index.Dispose();
    }

    private static void Drain(MemoryStream from, FileStream to)
    {
        if (from.Length > 0)
        {
            to.Seek(0, SeekOrigin.End);
            from.WriteTo(to);
            to.Flush();
            from.SetLength(0);
        }
    }

    private void AppendIndex(string key, Entry entry)
    {
        using var w = new BinaryWriter(pendingIndex, Encoding.UTF8, leaveOpen: true);
        w.Write(key);
        w.Write(entry.Offset);
        w.Write(entry.Length);
        w.Write(entry.Crc);
    }

    /// <summary>Opens and reads the index. Where most of it tells of copies that are gone it is written anew first, so that it does not grow for ever.</summary>
    private FileStream OpenIndex(string path)
    {
        // Nobody else has it open: a world has one owner, who holds its lock.
        var opened = Open();
        var bytes = new byte[opened.Length];
        opened.ReadExactly(bytes);
        var read = new ByteReader(bytes);
        var (whole, count) = (0, 0);
        try
        {
            for (; !read.AtEnd; whole = read.At, count++)
            {
                var key = read.Text();
                var entry = new Entry(read.Int64(), read.Int32(), read.UInt32());
                if (entry.Length < 0)
                {
                    entries.Remove(key);
                }
                else
                {
                    entries[key] = entry;
                }
            }
        }
        catch (EndOfStreamException)
        {
            // A crash cut the last entry short: what it named was never recorded anywhere.
            opened.SetLength(whole);
        }

        if (count <= Few + (2 * entries.Count))
        {
            return opened;
        }

        foreach (var (key, entry) in entries)
        {
            AppendIndex(key, entry);
        }

        using (opened)
        using (var anew = new FileStream(path + ".new", FileMode.Create, FileAccess.Write, FileShare.None, 1))
        {
            Drain(pendingIndex, anew);
            File.Move(path + ".new", path, overwrite: true);
        }

        return Open();

        FileStream Open() => new(path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.Read, 1);
    }
}
