using System.Buffers.Binary;
using System.Numerics;
using System.Text;
using NodaTime;

namespace Imbrek.PostgreSql.Log;

/// <summary>
/// Reads a cluster's log as bytes come: finds where records begin and end, checks the checksum of each, and picks out commits. Version 15's layout:
/// pages of 8 KiB with a header each; records of 8-byte alignment that run over pages; a record is a header of 24 bytes (length, transaction, previous
/// record, what it is, CRC-32C), headers of blocks, and data, of which that of the record itself stands last.
/// </summary>
/// <remarks>
/// A commit has a name when its transaction wrote one with <c>pg_logical_emit_message(true, 'imbrek', 'the name')</c>.
/// Whoever begins in the middle says so: the rest of the record that runs into the first page is passed over.
/// </remarks>
internal sealed class LogReader
{
    private const int PageBytes = 8192;
    private const int ShortHeader = 24;
    private const int LongHeader = 40;
    private const int RecordHeader = 24;
    private const ushort Magic15 = 0xD110;
    private const int LongestRecord = 1 << 30;
    private const int MostNames = 10_000;
    private static readonly Instant Epoch = Instant.FromUtc(2000, 1, 1, 0, 0);

    private readonly Segments segments;
    private readonly Dictionary<uint, string> names = [];
    private readonly byte[] header = new byte[LongHeader];
    private byte[] record = new byte[PageBytes];
    private int headerFilled;
    private int filled;
    private int length;
    private long recordAt;
    private long skip;
    private bool begun;
    private long position;
    private State state = State.Record;

    /// <summary>Makes a reader.</summary>
    /// <param name="segments">How the log is cut into files.</param>
    /// <param name="from">Where it begins to read: the first position of a page.</param>
    public LogReader(Segments segments, Lsn from)
    {
        if (from.Value % PageBytes != 0)
        {
            throw new ArgumentException("reading begins with a page", nameof(from));
        }

        (this.segments, position) = (segments, from.Value);
    }

    private enum State
    {
        /// <summary>A record begins at the next multiple of eight bytes, or goes on.</summary>
        Record,

        /// <summary>What was begun before is passed over.</summary>
        Skip,

        /// <summary>The rest of the file is empty: the engine went on in the next one.</summary>
        RestOfFile,

        /// <summary>Nothing was written any further.</summary>
        End,
    }

    /// <summary>Told of each commit, in the order of the log.</summary>
    public Action<Commit>? OnCommit { get; init; }

    /// <summary>Told of each record.</summary>
    public Action<LogRecord>? OnRecord { get; init; }

    /// <summary>Up to where bytes were taken.</summary>
    public Lsn Position => new(position);

    /// <summary>The last whole record; null before the first.</summary>
    public LogRecord? Last { get; private set; }

    /// <summary>Whether a zero length was met: nothing was written from there on.</summary>
    public bool Ended => state == State.End;

    /// <summary>Takes the next bytes.</summary>
    /// <exception cref="LogBrokenException">They are not what the engine writes.</exception>
    public void Feed(ReadOnlySpan<byte> bytes)
    {
        while (bytes.Length > 0 && state != State.End)
        {
            var inPage = (int)(position % PageBytes);
            if (inPage == 0 && headerFilled == 0 && state != State.RestOfFile || headerFilled > 0)
            {
                bytes = bytes[TakeHeader(bytes)..];
                continue;
            }

            if (inPage == 0 && state == State.RestOfFile && position % segments.Bytes == 0)
            {
                state = State.Record;
                continue;
            }

            var here = bytes[..Math.Min(bytes.Length, PageBytes - inPage)];
            var took = state switch
            {
                State.Skip => Skip(here),
                State.RestOfFile => here.Length,
                _ => TakeRecord(here),
            };
            position += took;
            bytes = bytes[took..];
        }
    }

    private int TakeHeader(ReadOnlySpan<byte> bytes)
    {
        var pageAt = position - headerFilled;
        var size = pageAt % segments.Bytes == 0 ? LongHeader : ShortHeader;
        var took = Math.Min(size - headerFilled, bytes.Length);
        bytes[..took].CopyTo(header.AsSpan(headerFilled));
        headerFilled += took;
        position += took;
        if (headerFilled < size)
        {
            return took;
        }

        headerFilled = 0;
        var (magic, address, rest) = (BinaryPrimitives.ReadUInt16LittleEndian(header), BinaryPrimitives.ReadInt64LittleEndian(header.AsSpan(8)), BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(16)));
        if (magic == 0 && address == 0 && filled == 0)
        {
            state = State.End;
            return took;
        }

        if (magic != Magic15 || address != pageAt)
        {
            throw new LogBrokenException(new(pageAt), magic != Magic15 ? $"the page begins with {magic:X4}, where version 15 writes {Magic15:X4}" : $"the page says it is that of {new Lsn(address)}");
        }

        if (!begun)
        {
            begun = true;
            (state, skip) = rest > 0 ? (State.Skip, rest) : (State.Record, 0);
        }
        else if (state == State.Record && filled > 0 && rest != length - filled || state == State.Record && filled == 0 && rest != 0 || state == State.Skip && rest != skip)
        {
            throw new LogBrokenException(new(pageAt), $"the page goes on with {rest} bytes of a record that lacks {(state == State.Skip ? skip : filled > 0 ? length - filled : 0)}");
        }

        return took;
    }

    private int Skip(ReadOnlySpan<byte> here)
    {
        var took = (int)Math.Min(skip, here.Length);
        skip -= took;
        state = skip == 0 ? State.Record : State.Skip;
        return took;
    }

    private int TakeRecord(ReadOnlySpan<byte> here)
    {
        if (filled == 0)
        {
            var pad = (int)(-position & 7);
            if (pad > 0)
            {
                return Math.Min(pad, here.Length);
            }

            recordAt = position;
        }

        // The length stands in the first four bytes, which a page never parts; whoever feeds may.
        if (filled < 4)
        {
            var few = Math.Min(4 - filled, here.Length);
            here[..few].CopyTo(record.AsSpan(filled));
            filled += few;
            if (filled == 4)
            {
                var said = BinaryPrimitives.ReadUInt32LittleEndian(record);
                if (said == 0)
                {
                    (state, filled) = (State.End, 0);
                    return few;
                }

                if (said is < RecordHeader or > LongestRecord)
                {
                    throw new LogBrokenException(new(recordAt), $"a record of {said} bytes");
                }

                length = (int)said;
            }

            return few;
        }

        var took = Math.Min(length - filled, here.Length);
        if (record.Length < filled + took)
        {
            // Grown by what has come, not by what a length says is to come.
            Array.Resize(ref record, Math.Max(filled + took, Math.Min(length, record.Length * 2)));
        }

        here[..took].CopyTo(record.AsSpan(filled));
        filled += took;
        if (filled == length)
        {
            Complete(position + took);
        }

        return took;
    }

    private void Complete(long end)
    {
        var whole = record.AsSpan(0, length);
        var wanted = BinaryPrimitives.ReadUInt32LittleEndian(whole[20..]);
        var crc = Crc(Crc(uint.MaxValue, whole[RecordHeader..]), whole[..20]) ^ uint.MaxValue;
        if (crc != wanted)
        {
            throw new LogBrokenException(new(recordAt), $"the checksum of the record is {wanted:X8}, its bytes come to {crc:X8}");
        }

        filled = 0;
        var aligned = (end + 7) & ~7L;
        var (info, manager) = (whole[16], whole[17]);
        if (manager == 0 && (info & 0xF0) == 0x40)
        {
            // The engine changes to the next file.
            state = State.RestOfFile;
            aligned = (end + segments.Bytes - 1) / segments.Bytes * segments.Bytes;
        }

        var at = new LogRecord(new(recordAt), new(aligned));
        Last = at;
        switch (manager)
        {
            case 1:
                HearTransaction(at, info, BinaryPrimitives.ReadUInt32LittleEndian(whole[4..]), MainData(whole));
                break;
            case 21:
                HearMessage(BinaryPrimitives.ReadUInt32LittleEndian(whole[4..]), MainData(whole));
                break;
        }

        OnRecord?.Invoke(at);
    }

    private void HearTransaction(LogRecord at, byte info, uint transaction, ReadOnlySpan<byte> data)
    {
        if ((info & 0x70) is 0x00 or 0x30 && data.Length >= 8)
        {
            names.Remove(transaction, out var name);
            OnCommit?.Invoke(new Commit(at.Position, at.End, Epoch + Duration.FromTicks(BinaryPrimitives.ReadInt64LittleEndian(data) * 10), transaction, name));
        }
        else if ((info & 0x70) is 0x20 or 0x40)
        {
            names.Remove(transaction);
        }
    }

    private void HearMessage(uint transaction, ReadOnlySpan<byte> data)
    {
        const int Fixed = 24;
        if (data.Length < Fixed || data[4] == 0 || transaction == 0)
        {
            return;
        }

        var (prefix, message) = (BinaryPrimitives.ReadUInt64LittleEndian(data[8..]), BinaryPrimitives.ReadUInt64LittleEndian(data[16..]));
        if (prefix is > 0 and < 64 && message < 200 && data.Length >= Fixed + (int)prefix + (int)message && names.Count < MostNames
            && data.Slice(Fixed, (int)prefix - 1).SequenceEqual("imbrek"u8))
        {
            names[transaction] = Encoding.UTF8.GetString(data.Slice(Fixed + (int)prefix, (int)message));
        }
    }

    /// <summary>The data of the record itself: its length stands in the last header, its bytes at the end.</summary>
    private static ReadOnlySpan<byte> MainData(ReadOnlySpan<byte> whole)
    {
        var at = RecordHeader;
        while (at + 2 <= whole.Length)
        {
            switch (whole[at])
            {
                case 255:
                    return whole[(whole.Length - whole[at + 1])..];
                case 254 when at + 5 <= whole.Length:
                    return whole[(int)(whole.Length - BinaryPrimitives.ReadUInt32LittleEndian(whole[(at + 1)..]))..];
                case 253:
                    at += 3;
                    break;
                case 252:
                    at += 5;
                    break;
                default:
                    // A record with blocks: none of those that are read here has any.
                    return [];
            }
        }

        return [];
    }

    private static uint Crc(uint crc, ReadOnlySpan<byte> bytes)
    {
        for (; bytes.Length >= 8; bytes = bytes[8..])
        {
            crc = BitOperations.Crc32C(crc, BinaryPrimitives.ReadUInt64LittleEndian(bytes));
        }

        foreach (var b in bytes)
        {
            crc = BitOperations.Crc32C(crc, b);
        }

        return crc;
    }
}
