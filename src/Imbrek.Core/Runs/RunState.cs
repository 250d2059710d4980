namespace Imbrek.Core.Runs;

/// <summary>Where a run stands. Those before <see cref="Done"/> are not over.</summary>
public enum RunState
{
    /// <summary>It waits: to be taken up, for its time, a slot, the run before, or the end of a pause.</summary>
    Waiting,

    /// <summary>It is going.</summary>
    Running,

    /// <summary>It waits for people to decide.</summary>
    Held,

    /// <summary>What it did is being undone, because it failed or was cancelled.</summary>
    Undoing,

    /// <summary>It went well.</summary>
    Done,

    /// <summary>It could not be completed.</summary>
    Failed,

    /// <summary>It was due and left out; the note says why.</summary>
    LeftOut,

    /// <summary>Somebody ended it.</summary>
    Cancelled,
}

/// <summary>What follows from where a run stands.</summary>
public static class RunStates
{
    /// <summary>Whether nothing more will be done.</summary>
    public static bool IsOver(this RunState state) => state >= RunState.Done;
}
