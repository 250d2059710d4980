namespace Imbrek.Server.State;

/// <summary>Something that is looked at again and again beside everything else. Whatever a look fails of, the next one comes.</summary>
/// <param name="pause">Between two looks.</param>
/// <param name="waits">What waits where a look fails, for the log.</param>
/// <param name="log">Where that is said.</param>
internal abstract class Looking(TimeSpan pause, string waits, ILogger log) : BackgroundService
{
    /// <summary>How often what people wait for is looked at.</summary>
    protected static readonly TimeSpan Often = TimeSpan.FromSeconds(2);

    /// <summary>One look.</summary>
    protected abstract Task LookAsync(CancellationToken cancel);

    /// <inheritdoc/>
    protected sealed override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(pause);
        do
        {
            try
            {
                await LookAsync(stoppingToken);
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("{What}: {Reason}", waits, e.Message);
            }
        }
        while (await timer.WaitForNextTickAsync(stoppingToken));
    }
}
