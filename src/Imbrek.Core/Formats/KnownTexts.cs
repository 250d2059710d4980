using System.Text;

namespace Imbrek.Core.Formats;

/// <summary>Texts that come again and again in what is read, each made once: of a million rows most name the same few databases and stores.</summary>
public sealed class KnownTexts
{
    private readonly Dictionary<string, string>.AlternateLookup<ReadOnlySpan<char>> known = new Dictionary<string, string>().GetAlternateLookup<ReadOnlySpan<char>>();

    /// <summary>The text that bytes in UTF-8 say: the same object whenever they say the same.</summary>
    public string Of(ReadOnlySpan<byte> utf8)
    {
        Span<char> text = utf8.Length <= 256 ? stackalloc char[256] : new char[utf8.Length];
        text = text[..Encoding.UTF8.GetChars(utf8, text)];
        if (!known.TryGetValue(text, out var first))
        {
            known[text] = first = text.ToString();
        }

        return first;
    }
}
