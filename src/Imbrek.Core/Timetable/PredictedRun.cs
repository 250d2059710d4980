using System.Runtime.CompilerServices;

namespace Imbrek.Core.Timetable;

/// <summary>How a run ended.</summary>
public enum RunEnd : byte
{
    /// <summary>Well.</summary>
    Done,

    /// <summary>All attempts failed.</summary>
    Failed,

    /// <summary>Left out, because the one before was still going.</summary>
    Overlapped,

    /// <summary>Left out, because there is nothing to build on.</summary>
    NoBase,

    /// <summary>Left out, because a pause without an end holds it back.</summary>
    Held,
}

/// <summary>When the further copies of a set are there, one for each store of <c>CopyTo</c>; 0 for never.</summary>
[InlineArray(4)]
public struct CopyTimes
{
    private long first;
}

/// <summary>One run of a prediction. Times are milliseconds of the Unix epoch.</summary>
public struct PredictedRun
{
    private CopyTimes copies;

    /// <summary>Its series, as numbered in the input.</summary>
    public int Series { get; set; }

    /// <summary>How it ended.</summary>
    public RunEnd End { get; set; }

    /// <summary>Attempts made.</summary>
    public int Attempts { get; set; }

    /// <summary>When it was due.</summary>
    public long Due { get; set; }

    /// <summary>When it started, after waiting for slots and pauses.</summary>
    public long Started { get; set; }

    /// <summary>The instant its set stands for.</summary>
    public long Captured { get; set; }

    /// <summary>For a log: the instant it covers from.</summary>
    public long CoversFrom { get; set; }

    /// <summary>When the first copy is there.</summary>
    public long Available { get; set; }

    /// <summary>When all of it was done, further copies included.</summary>
    public long Ended { get; set; }

    /// <summary>Bytes of data it stands for.</summary>
    public double DataBytes { get; set; }

    /// <summary>Bytes it takes in each store.</summary>
    public double StoredBytes { get; set; }

    /// <summary>When the further copies are there.</summary>
    public readonly CopyTimes Copies => copies;

    /// <summary>Says when a further copy is there.</summary>
    /// <param name="copy">Its place in <c>CopyTo</c>.</param>
    /// <param name="at">When.</param>
    public void SetCopy(int copy, long at) => copies[copy] = at;
}

/// <summary>Takes what a prediction gives, run by run, in the order of their ends as far as they are known.</summary>
public interface IPredictionSink
{
    /// <summary>A run.</summary>
    void Add(in PredictedRun run);

    /// <summary>A later task copied a set elsewhere.</summary>
    /// <param name="series">The series that made the set.</param>
    /// <param name="captured">The instant the set stands for.</param>
    /// <param name="copier">The series that copied it, to its store.</param>
    /// <param name="at">When the copy is there.</param>
    void AddCopy(int series, long captured, int copier, long at);
}
