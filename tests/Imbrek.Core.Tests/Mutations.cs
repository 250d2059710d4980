using System.Text;

namespace Imbrek.Core.Tests;

/// <summary>Files and requests made wrong at random, from a seed, so that what was found can be found again.</summary>
public static class Mutations
{
    /// <summary>What stands in for a value, a piece of text or a byte: the ends of ranges, what is no text, what a shell or a table acts upon.</summary>
    private static readonly string[] Pieces =
    [
        "null", "-1", "0", "1e300", "1e-10", "4294967296", "-9223372036854775808", "9223372036854775808", "\"\"", "\"\\u0000\"", "\"\\ud800\"", "\"-9998-01-01T00:00:00\"", "\"9999-12-31T23:59:59Z\"",
        "\"0001-01-01T00:00:00Z\"", "\"every 99999999999 minutes\"", "\"FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30\"", "\"FREQ=DAILY;BYMONTHDAY=-2147483648\"", "\"$(id)\"", "\"../../x\"", "\"'; drop table sets; --\"",
        "[]", "{}", "[null]", "true", "{\"a\":{\"a\":[1]}}", "\"Europe/Nowhere\"", "\"\u202e\"", ",", "\"", "}", "]", "\n", "\0", "\u00ff",
    ];

    /// <summary>One to four changes: a value put in the place of another, a piece put in, cut or doubled, a byte turned.</summary>
    public static byte[] Of(byte[] whole, Random random)
    {
        var bytes = new List<byte>(whole);
        for (var changes = random.Next(1, 5); changes > 0; changes--)
        {
            var at = random.Next(bytes.Count + 1);
            var length = Math.Min(random.Next(1, 40), bytes.Count - at);
            switch (random.Next(6))
            {
                case 0:
                    bytes.InsertRange(at, Encoding.UTF8.GetBytes(Pieces[random.Next(Pieces.Length)]));
                    break;
                case 1:
                    bytes.RemoveRange(at, length);
                    break;
                case 2:
                    bytes.InsertRange(at, bytes.GetRange(at, length));
                    break;
                case 3 when at < bytes.Count:
                    bytes[at] = (byte)random.Next(256);
                    break;
                default:
                    Replace(bytes, at, Pieces[random.Next(Pieces.Length)]);
                    break;
            }
        }

        return [.. bytes];
    }

    /// <summary>Puts a piece in the place of the value after the next colon.</summary>
    private static void Replace(List<byte> bytes, int from, string piece)
    {
        var colon = bytes.IndexOf((byte)':', Math.Min(from, bytes.Count));
        if (colon < 0)
        {
            return;
        }

        var end = colon + 1;
        while (end < bytes.Count && bytes[end] is not ((byte)',' or (byte)'}' or (byte)']' or (byte)'\n'))
        {
            end++;
        }

        bytes.RemoveRange(colon + 1, end - colon - 1);
        bytes.InsertRange(colon + 1, Encoding.UTF8.GetBytes(piece));
    }
}
