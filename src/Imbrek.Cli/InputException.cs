namespace Imbrek.Cli;

/// <summary>The input is wrong; the message says what, in one line.</summary>
internal sealed class InputException(string message) : Exception(message);
