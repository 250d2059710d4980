namespace Imbrek.Core.Formats;

/// <summary>Where faults and warnings are gathered.</summary>
internal sealed class FaultReport(string file)
{
    private int unlisted;

    public List<Fault> Faults { get; } = [];

    public List<Fault> Warnings { get; } = [];

    /// <summary>How many faults there are, listed or not.</summary>
    public int FaultCount => Faults.Count + unlisted;

    /// <summary>Whether no more warnings are listed.</summary>
    public bool WarnedEnough => Warnings.Count >= InputBounds.Faults;

    public void Fault(int line, string member, string message)
    {
        if (!CountOnly())
        {
            Faults.Add(new(file, line, member, message));
        }
    }

    /// <summary>Counts a fault that is not listed, because there are enough; whoever asks first need not say what is wrong.</summary>
    public bool CountOnly()
    {
        if (Faults.Count < InputBounds.Faults)
        {
            return false;
        }

        unlisted++;
        return true;
    }

    public void Warn(int line, string member, string message) => Warnings.Add(new(file, line, member, message));

    /// <summary>Adds what was found in the part of the document that follows this one's.</summary>
    public void Add(FaultReport next)
    {
        var listed = Math.Min(next.Faults.Count, InputBounds.Faults - Faults.Count);
        Faults.AddRange(next.Faults.Take(listed));
        unlisted += next.FaultCount - listed;
        Warnings.AddRange(next.Warnings.Take(InputBounds.Faults - Warnings.Count));
    }
}
