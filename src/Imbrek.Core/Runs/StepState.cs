namespace Imbrek.Core.Runs;

/// <summary>Where a step stands.</summary>
public enum StepState
{
    /// <summary>Not begun, or to be tried again.</summary>
    Waiting,

    /// <summary>Under way; of a hold: people are asked.</summary>
    Running,

    /// <summary>Done.</summary>
    Done,

    /// <summary>Could not be done.</summary>
    Failed,

    /// <summary>Broken off, because the run goes back.</summary>
    Stopped,

    /// <summary>Begun, and taken back since.</summary>
    Undone,

    /// <summary>Begun, and could not be taken back: what it did may still be there.</summary>
    LeftBehind,

    /// <summary>Not needed, or not any more.</summary>
    Skipped,
}
