namespace Imbrek.Core.Drivers;

/// <summary>
/// The driver ended under its caller, who learns nothing of what became of the call. Not a failure of the step: whoever takes the run up
/// next asks again.
/// </summary>
public sealed class DriverGoneException(string message) : Exception(message);
