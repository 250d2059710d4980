using System.Buffers.Binary;
using System.Text;
using NodaTime;
using Npgsql;

namespace Imbrek.Data;

/// <summary>Writes rows by a binary COPY, column by column in the order named, as <see cref="CopyReader"/> reads them: of a million rows every value that is wrapped on the way would be felt.</summary>
internal sealed class CopyWriter : IDisposable
{
    private const int TextType = 25;

    private readonly NpgsqlRawCopyStream stream;
    private readonly short columns;
    private byte[] buffer = new byte[1 << 16];
    private int at;
    private bool completed;

    /// <summary>Begins to write.</summary>
    /// <param name="connection">An open connection.</param>
    /// <param name="table">The table.</param>
    /// <param name="columns">The columns, with commas between them.</param>
    /// <param name="settled">Whether rows are written as ones that no reader need look up again; for a table that this transaction has emptied.</param>
    public CopyWriter(NpgsqlConnection connection, string table, string columns, bool settled = false)
    {
        this.columns = (short)(columns.Count(c => c == ',') + 1);
        stream = connection.BeginRawBinaryCopy($"copy {table} ({columns}) from stdin (format binary{(settled ? ", freeze" : "")})");
        stream.Write([.. "PGCOPY\n"u8, 0xFF, .. "\r\n\0"u8, .. new byte[8]]);
    }

    /// <summary>Begins a row; as many fields follow as there are columns.</summary>
    public void Row() => BinaryPrimitives.WriteInt16BigEndian(Take(2), columns);

    public void Write(long value) => BinaryPrimitives.WriteInt64BigEndian(Field(8), value);

    public void Write(int value) => BinaryPrimitives.WriteInt32BigEndian(Field(4), value);

    public void Write(short value) => BinaryPrimitives.WriteInt16BigEndian(Field(2), value);

    public void Write(bool value) => Field(1)[0] = value ? (byte)1 : (byte)0;

    public void Write(double value) => BinaryPrimitives.WriteDoubleBigEndian(Field(8), value);

    public void Write(Guid value) => value.TryWriteBytes(Field(16), bigEndian: true, out _);

    public void Write(Instant value) => Write(CopyReader.Microseconds(value));

    public void Write(long? value)
    {
        if (value is { } known)
        {
            Write(known);
        }
        else
        {
            Null();
        }
    }

    public void Write(Instant? value) => Write(value is { } known ? CopyReader.Microseconds(known) : (long?)null);

    public void Write(Guid? value)
    {
        if (value is { } known)
        {
            Write(known);
        }
        else
        {
            Null();
        }
    }

    /// <summary>Writes a text that is at hand in UTF-8.</summary>
    public void WriteUtf8(ReadOnlySpan<byte> value) => value.CopyTo(Field(value.Length));

    /// <summary>Writes a text, or null.</summary>
    public void Write(string? value)
    {
        if (value is null)
        {
            Null();
            return;
        }

        var most = Encoding.UTF8.GetMaxByteCount(value.Length);
        Reserve(most + 4);
        var length = Encoding.UTF8.GetBytes(value, buffer.AsSpan(at + 4));
        BinaryPrimitives.WriteInt32BigEndian(buffer.AsSpan(at), length);
        at += length + 4;
    }

    /// <summary>Writes texts as an array; null for none.</summary>
    public void Write(IReadOnlyCollection<string> values)
    {
        if (values.Count == 0)
        {
            Null();
            return;
        }

        // One dimension, nothing of it null, texts, so many, from the first on.
        var head = Field(20 + values.Sum(v => 4 + Encoding.UTF8.GetByteCount(v)));
        foreach (var (i, number) in ((int, int)[])[(0, 1), (4, 0), (8, TextType), (12, values.Count), (16, 1)])
        {
            BinaryPrimitives.WriteInt32BigEndian(head[i..], number);
        }

        var rest = head[20..];
        foreach (var value in values)
        {
            var length = Encoding.UTF8.GetBytes(value, rest[4..]);
            BinaryPrimitives.WriteInt32BigEndian(rest, length);
            rest = rest[(4 + length)..];
        }
    }

    /// <summary>Says that there are no more rows.</summary>
    /// <exception cref="PostgresException">PostgreSQL takes none of them.</exception>
    public void Complete()
    {
        BinaryPrimitives.WriteInt16BigEndian(Take(2), -1);
        Drain();
        completed = true;
        stream.Dispose();
    }

    /// <summary>Gives up all rows, when they are not complete.</summary>
    public void Dispose()
    {
        if (!completed)
        {
            completed = true;
            stream.Cancel();
        }
    }

    private void Null() => BinaryPrimitives.WriteInt32BigEndian(Take(4), -1);

    private Span<byte> Field(int length)
    {
        BinaryPrimitives.WriteInt32BigEndian(Take(4), length);
        return Take(length);
    }

    private Span<byte> Take(int count)
    {
        Reserve(count);
        at += count;
        return buffer.AsSpan(at - count, count);
    }

    private void Reserve(int count)
    {
        if (buffer.Length - at < count)
        {
            Drain();
            if (buffer.Length < count)
            {
                buffer = new byte[count * 2];
            }
        }
    }

    private void Drain()
    {
        stream.Write(buffer.AsSpan(0, at));
        at = 0;
    }
}
