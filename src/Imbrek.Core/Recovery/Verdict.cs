namespace Imbrek.Core.Recovery;

/// <summary>The verdict of a database (section 5), from best to worst.</summary>
public enum Verdict
{
    /// <summary>Observed within RPO over the window and within RTO now, and a valid proof within both.</summary>
    Proven,

    /// <summary>The same, but no valid proof.</summary>
    Unproven,

    /// <summary>Within now, but over RPO at some time in the window, or cautious figures over.</summary>
    AtRisk,

    /// <summary>Exposure now over RPO, or the best restore now takes longer than RTO.</summary>
    Breached,

    /// <summary>Nothing to restore from.</summary>
    Unprotected,
}
