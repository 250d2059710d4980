namespace Imbrek.Core.Formats;

/// <summary>One thing wrong (or, as a warning, odd) in a file.</summary>
/// <param name="File">The file, as the user named it.</param>
/// <param name="Line">The line, counted from 1.</param>
/// <param name="Member">The member at fault, such as <c>databases[3].host</c>; empty when the whole line is.</param>
/// <param name="Message">What is wrong with it.</param>
public sealed record Fault(string File, int Line, string Member, string Message)
{
    /// <summary>One line for people.</summary>
    public override string ToString() =>
        Member.Length == 0 ? $"{File}:{Line}: {Message}" : $"{File}:{Line}: {Member}: {Message}";
}
