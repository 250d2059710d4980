namespace Imbrek.Server.State;

/// <summary>Something that is looked at again and again beside everything else, from when the server answers. Whatever a look fails of, the next one comes.</summary>
/// <param name="pause">Between two looks.</param>
/// <param name="waits">What waits where a look fails, for the log.</param>
/// <param name="life">Tells when the server answers.</param>
/// <param name="log">Where that is said.</param>
internal abstract class Looking(TimeSpan pause, string waits, IHostApplicationLifetime life, ILogger log) : BackgroundService
{
    /// <summary>How often what people wait for is looked at.</summary>
    protected static readonly TimeSpan Often = TimeSpan.FromSeconds(2);

    /// <summary>One look.</summary>
    protected abstract Task LookAsync(CancellationToken cancel);

    /// <inheritdoc/>
    protected sealed override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        // Until then what people wait for comes first.
        var answers = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        await using var started = life.ApplicationStarted.Register(answers.SetResult);
        await answers.Task.WaitAsync(stoppingToken);
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
