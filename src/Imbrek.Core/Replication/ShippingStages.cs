namespace Imbrek.Core.Replication;

/// <summary>One stage of a shipped replica.</summary>
/// <param name="EverySeconds">How often it begins, seconds.</param>
/// <param name="TakesSeconds">How long it takes, seconds.</param>
public readonly record struct ShippingStage(double EverySeconds, double TakesSeconds)
{
    /// <summary>How much it adds to the age of what went through it, at worst: seconds.</summary>
    public double AtWorstSeconds => EverySeconds + TakesSeconds;
}

/// <summary>The three stages by which log is shipped, and for how long what is shipped is kept.</summary>
/// <param name="Backup">The log backup at the source.</param>
/// <param name="Copy">The copy to the replica's site.</param>
/// <param name="Apply">The applying there.</param>
/// <param name="KeepAtSourceSeconds">For how long shipped log is kept at the source, seconds; null when not stated.</param>
/// <param name="KeepHereSeconds">For how long it is kept at the replica, seconds; null when not stated.</param>
public sealed record ShippingStages(ShippingStage Backup, ShippingStage Copy, ShippingStage Apply, double? KeepAtSourceSeconds, double? KeepHereSeconds)
{
    /// <summary>One of them.</summary>
    public ShippingStage this[ShippingStep step] => step switch
    {
        ShippingStep.Backup => Backup,
        ShippingStep.Copy => Copy,
        _ => Apply,
    };

    /// <summary>For how long what a stage made is kept, seconds; null when not stated, or when it keeps nothing.</summary>
    public double? KeepSeconds(ShippingStep step) => step switch
    {
        ShippingStep.Backup => KeepAtSourceSeconds,
        ShippingStep.Copy => KeepHereSeconds,
        _ => null,
    };
}

/// <summary>The stages of a shipped replica, in their order.</summary>
public enum ShippingStep
{
    /// <summary>Log is backed up at the source.</summary>
    Backup,

    /// <summary>What was backed up is copied to the side of the replica.</summary>
    Copy,

    /// <summary>What was copied is applied.</summary>
    Apply,
}
