using System.Buffers.Binary;
using System.Text;
using Imbrek.Core.Formats;
using NodaTime;
using Npgsql;

namespace Imbrek.Data;

/// <summary>
/// Rows of a binary COPY, column by column in the order asked for. The bytes are looked at where they arrived: of a million rows every value that is wrapped on the way would be felt. Fields are those that PostgreSQL
/// describes for COPY in binary format: a length in bytes, or -1 for null, and as many bytes.
/// </summary>
internal sealed class CopyReader : IDisposable
{
    private const int HeaderBytes = 19;

    /// <summary>Microseconds from the Unix epoch to the one of PostgreSQL.</summary>
    private const long Epoch = 946_684_800_000_000;

    private readonly Stream stream;
    private readonly KnownTexts known;
    private byte[] buffer = new byte[1 << 16];
    private int at;
    private int end;

    /// <summary>Begins to read.</summary>
    /// <param name="connection">An open connection.</param>
    /// <param name="query">What is read; it has no parameters, so what comes from outside is in it as <see cref="Literal"/>.</param>
    /// <param name="known">Texts that are many times there, once each.</param>
    public CopyReader(NpgsqlConnection connection, string query, KnownTexts known)
    {
        this.known = known;
        stream = connection.BeginRawBinaryCopy($"copy ({query}) to stdout (format binary)");
        var header = Take(HeaderBytes);
        Take(BinaryPrimitives.ReadInt32BigEndian(header[^4..]));
    }

    /// <summary>Texts as one literal of an array.</summary>
    public static string Literal(IEnumerable<string> texts)
    {
        var array = "{" + string.Join(',', texts.Select(t => $"\"{t.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal)}\"")) + "}";
        return $"'{array.Replace("'", "''", StringComparison.Ordinal)}'::text[]";
    }

    /// <summary>Goes to the next row.</summary>
    /// <returns>False when there is none.</returns>
    public bool Read() => BinaryPrimitives.ReadInt16BigEndian(Take(2)) >= 0;

    public long Int64() => BinaryPrimitives.ReadInt64BigEndian(Field());

    public long? MaybeInt64() => Field() is { IsEmpty: false } f ? BinaryPrimitives.ReadInt64BigEndian(f) : null;

    public int Int32() => BinaryPrimitives.ReadInt32BigEndian(Field());

    public short Int16() => BinaryPrimitives.ReadInt16BigEndian(Field());

    public bool Flag() => Field()[0] != 0;

    public Instant Time() => At(BinaryPrimitives.ReadInt64BigEndian(Field()));

    public Instant? MaybeTime() => Field() is { IsEmpty: false } f ? At(BinaryPrimitives.ReadInt64BigEndian(f)) : null;

    /// <summary>A text that is seldom twice there.</summary>
    public string Text() => Encoding.UTF8.GetString(Field());

    /// <summary>A text that is often there, the same object each time.</summary>
    public string Same() => known.Of(Field());

    /// <summary>The same, or null.</summary>
    public string? MaybeSame()
    {
        var length = Length();
        return length < 0 ? null : known.Of(Take(length));
    }

    /// <summary>Texts that are often there; none for null.</summary>
    public string[] Several()
    {
        var length = Length();
        if (length < 0)
        {
            return [];
        }

        // Dimensions, whether any is null, the type; then of the one dimension how many and where they begin.
        var field = Take(length);
        if (BinaryPrimitives.ReadInt32BigEndian(field) == 0)
        {
            return [];
        }

        var texts = new string[BinaryPrimitives.ReadInt32BigEndian(field[12..])];
        field = field[20..];
        for (var i = 0; i < texts.Length; i++)
        {
            var bytes = BinaryPrimitives.ReadInt32BigEndian(field);
            texts[i] = known.Of(field.Slice(4, bytes));
            field = field[(4 + bytes)..];
        }

        return texts;
    }

    /// <inheritdoc/>
    public void Dispose() => stream.Dispose();

    /// <summary>An instant as PostgreSQL holds it; the ends of time are its infinities.</summary>
    internal static long Microseconds(Instant at) =>
        at == Instant.MaxValue ? long.MaxValue : at == Instant.MinValue ? long.MinValue : (at.ToUnixTimeTicks() / 10) - Epoch;

    private static Instant At(long microseconds) => microseconds switch
    {
        long.MaxValue => Instant.MaxValue,
        long.MinValue => Instant.MinValue,
        _ => Instant.FromUnixTimeTicks((microseconds + Epoch) * 10),
    };

    private int Length() => BinaryPrimitives.ReadInt32BigEndian(Take(4));

    /// <summary>The bytes of the next field; none for null.</summary>
    private ReadOnlySpan<byte> Field() => Take(Math.Max(0, Length()));

    /// <summary>The next bytes; they are there until the next are taken.</summary>
    private ReadOnlySpan<byte> Take(int count)
    {
        if (end - at < count)
        {
            Fill(count);
        }

        at += count;
        return buffer.AsSpan(at - count, count);
    }

    private void Fill(int count)
    {
        var left = buffer.AsSpan(at, end - at);
        if (count > buffer.Length)
        {
            var larger = new byte[count * 2];
            left.CopyTo(larger);
            buffer = larger;
        }
        else
        {
            left.CopyTo(buffer);
        }

        (at, end) = (0, left.Length);
        end += stream.ReadAtLeast(buffer.AsSpan(end), count - end);
    }
}
