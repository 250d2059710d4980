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
public sealed record ShippingStages(ShippingStage Backup, ShippingStage Copy, ShippingStage Apply, double? KeepAtSourceSeconds, double? KeepHereSeconds);
