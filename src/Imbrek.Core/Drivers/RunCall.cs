namespace Imbrek.Core.Drivers;

/// <summary>
/// Who calls a driver. Each time a process takes a run up its fence rises; a driver that has heard of a higher one refuses what carries a
/// lower, so that a process which was thought dead cannot act for a run that another has taken.
/// </summary>
/// <param name="Run">The run.</param>
/// <param name="Fence">Which taking up of it, from 1.</param>
public readonly record struct RunCall(Guid Run, long Fence)
{
    /// <summary>Where one run asks for the same several times each is another caller of the drivers, which answer a caller the same when it asks again.</summary>
    /// <param name="part">Which of its parts calls; 0 for the run itself.</param>
    public RunCall Part(int part)
    {
        if (part <= 0)
        {
            return this;
        }

        var bytes = Run.ToByteArray();
        bytes[^1] ^= (byte)part;
        return this with { Run = new Guid(bytes) };
    }
}
