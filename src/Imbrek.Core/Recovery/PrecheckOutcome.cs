namespace Imbrek.Core.Recovery;

/// <summary>Whether a precheck stands in the way.</summary>
public enum PrecheckOutcome
{
    /// <summary>As it should be.</summary>
    Passed,

    /// <summary>May go on, but somebody should know.</summary>
    Warned,

    /// <summary>The restore cannot be begun.</summary>
    Failed,
}
