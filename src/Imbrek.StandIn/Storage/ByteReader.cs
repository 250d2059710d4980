using System.Buffers.Binary;
using System.Text;

namespace Imbrek.StandIn.Storage;

/// <summary>Reads what a <see cref="BinaryWriter"/> wrote from bytes that are all there: of half a million entries a stream would be felt.</summary>
/// <param name="bytes">The bytes.</param>
internal ref struct ByteReader(ReadOnlySpan<byte> bytes)
{
    private readonly ReadOnlySpan<byte> bytes = bytes;

    /// <summary>How many bytes have been read.</summary>
    public int At { get; private set; }

    /// <summary>Whether there is nothing more.</summary>
    public readonly bool AtEnd => At == bytes.Length;

    /// <summary>The next bytes.</summary>
    /// <exception cref="EndOfStreamException">So many are not there.</exception>
    public ReadOnlySpan<byte> Bytes(int count)
    {
        if ((uint)count > (uint)(bytes.Length - At))
        {
            throw new EndOfStreamException();
        }

        var read = bytes.Slice(At, count);
        At += count;
        return read;
    }

    public byte Byte() => Bytes(1)[0];

    public bool Flag() => Byte() != 0;

    public int Int32() => BinaryPrimitives.ReadInt32LittleEndian(Bytes(4));

    public uint UInt32() => BinaryPrimitives.ReadUInt32LittleEndian(Bytes(4));

    public long Int64() => BinaryPrimitives.ReadInt64LittleEndian(Bytes(8));

    /// <summary>A number of seven bits a byte.</summary>
    /// <exception cref="EndOfStreamException">It does not end, or is longer than a number can be.</exception>
    public int Count()
    {
        var (count, shift) = (0, 0);
        for (var next = Byte(); ; next = Byte(), shift += 7)
        {
            count |= (next & 0x7F) << shift;
            if (next < 0x80)
            {
                return count;
            }

            if (shift >= 28)
            {
                throw new EndOfStreamException();
            }
        }
    }

    /// <summary>A text, as its bytes.</summary>
    public ReadOnlySpan<byte> Utf8() => Bytes(Count());

    public string Text() => Encoding.UTF8.GetString(Utf8());
}
