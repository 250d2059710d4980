namespace Imbrek.Server.Features.Dispatch;

/// <summary>
/// What the dispatcher was told and has not looked at yet, by whichever thread. It is taken before it is looked at, so that what is told meanwhile is
/// looked at the next time; who fails at looking tells it again.
/// </summary>
internal sealed class DispatchNews
{
    private readonly SemaphoreSlim wake = new(0, 1);
    private int told;

    /// <summary>What may have changed.</summary>
    [Flags]
    public enum Of
    {
        /// <summary>Nothing that is read again.</summary>
        Nothing = 0,

        /// <summary>Somebody asked for a run, ended one, or another process got on with one.</summary>
        Runs = 1,

        /// <summary>Plans, pauses or the fleet.</summary>
        Plans = 2,

        /// <summary>How runs of other processes stand.</summary>
        Health = 4,
    }

    /// <summary>Tells of <paramref name="what"/>, and wakes who waits; also of nothing, to wake alone.</summary>
    public void Tell(Of what)
    {
        Interlocked.Or(ref told, (int)what);
        if (wake.CurrentCount == 0)
        {
            try
            {
                wake.Release();
            }
            catch (SemaphoreFullException)
            {
                // Somebody else woke it in the same moment.
            }
        }
    }

    /// <summary>Takes what was told of <paramref name="what"/>: it is no longer told afterwards.</summary>
    public Of Take(Of what) => (Of)Interlocked.And(ref told, ~(int)what) & what;

    /// <summary>Waits until something is told, at most <paramref name="atMost"/>.</summary>
    public Task WaitAsync(TimeSpan atMost, CancellationToken cancel) => wake.WaitAsync(atMost, cancel);
}
