namespace Imbrek.Server.Features.Runs;

/// <summary>Wakes this process's worker when there is something to do, so that nobody waits for its next look.</summary>
internal sealed class RunSignal
{
    private readonly SemaphoreSlim wake = new(0);

    public void Wake() => wake.Release();

    public async Task WaitAsync(TimeSpan atMost, CancellationToken cancel)
    {
        await wake.WaitAsync(atMost, cancel);
        while (wake.Wait(0, cancel))
        {
        }
    }
}
