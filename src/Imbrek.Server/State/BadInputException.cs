namespace Imbrek.Server.State;

/// <summary>What a client sent cannot be used; names the member at fault. Becomes problem details with status 400.</summary>
internal sealed class BadInputException(string member, string message, int status = 400, string code = "bad-input") : Exception(message)
{
    public string Member { get; } = member;

    public int Status { get; } = status;

    public string Code { get; } = code;

    /// <summary>When to ask again; null when asking again would not help.</summary>
    public TimeSpan? RetryAfter { get; init; }
}
