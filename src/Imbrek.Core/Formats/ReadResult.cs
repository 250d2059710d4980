namespace Imbrek.Core.Formats;

/// <summary>What came of reading a file: the value, or every fault that was found.</summary>
/// <param name="Value">What the file holds; null when there are faults.</param>
/// <param name="Faults">Every fault; nothing is read half.</param>
/// <param name="Warnings">Members that were not known and were left aside.</param>
/// <typeparam name="T">What the file holds.</typeparam>
public sealed record ReadResult<T>(T? Value, IReadOnlyList<Fault> Faults, IReadOnlyList<Fault> Warnings)
    where T : class;
