namespace Imbrek.Server.State;

/// <summary>One after another: whoever takes a turn has it until they give it back, and the next waits for that.</summary>
internal sealed class Turns
{
    private readonly SemaphoreSlim free = new(1);

    /// <summary>Waits for a turn.</summary>
    /// <param name="cancel">Waits no longer.</param>
    /// <returns>The turn; disposing of it gives it back.</returns>
    public async ValueTask<Turn> TakeAsync(CancellationToken cancel = default)
    {
        await free.WaitAsync(cancel);
        return new(free);
    }

    /// <summary>A turn.</summary>
    public readonly struct Turn(SemaphoreSlim free) : IDisposable
    {
        /// <inheritdoc/>
        public void Dispose() => free.Release();
    }
}
