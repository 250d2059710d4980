namespace Imbrek.Core.Drivers;

/// <summary>
/// Who calls a driver. Each time a process takes a run up its fence rises; a driver that has heard of a higher one refuses what carries a
/// lower, so that a process which was thought dead cannot act for a run that another has taken.
/// </summary>
/// <param name="Run">The run.</param>
/// <param name="Fence">Which taking up of it, from 1.</param>
public readonly record struct RunCall(Guid Run, long Fence);
