namespace Imbrek.Core.Formats;

/// <summary>Words of shell scripts. Everything that comes from outside the product goes into a script through here, whatever was checked before.</summary>
public static class ShellWord
{
    /// <summary>A text as one word of a POSIX shell, exactly as it is: in single quotes, inside which nothing is special but the quote itself.</summary>
    /// <param name="text">The text; it holds no NUL, which no argument of a program can hold.</param>
    /// <exception cref="ArgumentException">It holds a NUL.</exception>
    public static string Of(string text) => text.Contains('\0', StringComparison.Ordinal)
        ? throw new ArgumentException("a NUL cannot be in a word of a script", nameof(text))
        : $"'{text.Replace("'", "'\\''", StringComparison.Ordinal)}'";
}
