namespace Imbrek.Core.Timetable;

/// <summary>What is to happen when: the earliest first, and of two at one instant the one that was entered first. Milliseconds of the Unix epoch.</summary>
/// <param name="now">When it begins.</param>
public sealed class Agenda(long now)
{
    private readonly PriorityQueue<Action, (long Time, long Number)> queue = new();
    private long number;

    /// <summary>The time it has been led to.</summary>
    public long Now { get; private set; } = now;

    /// <summary>When something is to happen next; <see cref="long.MaxValue"/> when nothing is.</summary>
    public long Next => queue.TryPeek(out _, out var first) ? first.Time : long.MaxValue;

    /// <summary>Has something happen at an instant; not before now.</summary>
    public void Schedule(long at, Action what) => queue.Enqueue(what, (Math.Max(at, Now), number++));

    /// <summary>It is an instant now, before what is due then happens: something else may happen first.</summary>
    public void Reach(long now) => Now = Math.Max(Now, now);

    /// <summary>Lets everything up to an instant happen, in order; what is entered meanwhile for no later instant too.</summary>
    public void Advance(long to)
    {
        while (queue.TryPeek(out _, out var first) && first.Time <= to)
        {
            Now = Math.Max(Now, first.Time);
            queue.Dequeue()();
        }

        Now = Math.Max(Now, to);
    }
}
