using Imbrek.Core.Drivers;

namespace Imbrek.Server.Features.Runs;

/// <summary>What a driver answers to somebody who waits for it. A call may hang, fail, or be another process's to make: then it is said why there is no answer.</summary>
internal static class DriverAnswer
{
    /// <summary>Asks, and waits no longer than so long; also one that does not heed its cancellation is waited for no longer.</summary>
    /// <param name="patience">How long.</param>
    /// <param name="ask">The call.</param>
    /// <param name="cancel">Whoever waits has gone.</param>
    /// <returns>The answer, or why there is none.</returns>
    public static async Task<(T? Answer, string? WhyNone)> WithinAsync<T>(TimeSpan patience, Func<CancellationToken, Task<T>> ask, CancellationToken cancel)
        where T : class
    {
        using var enough = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        enough.CancelAfter(patience);
        try
        {
            return (await ask(enough.Token).WaitAsync(enough.Token), null);
        }
        catch (DriverException e)
        {
            return (null, e.Message);
        }
        catch (DriverGoneException)
        {
            return (null, "another process can ask, this one cannot");
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return (null, $"it did not answer within {patience.TotalSeconds:0} s");
        }
    }
}
