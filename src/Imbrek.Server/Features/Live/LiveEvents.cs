using System.Collections.Concurrent;
using System.Text.Json;
using System.Threading.Channels;

namespace Imbrek.Server.Features.Live;

/// <summary>Hands what happens to everybody who listens on this process.</summary>
internal sealed class LiveEvents
{
    private readonly ConcurrentDictionary<Guid, Channel<LiveEvent>> listeners = new();

    /// <summary>Marks what this process tells the others, so that it does not take it for news itself.</summary>
    public string Process { get; } = Guid.NewGuid().ToString("n");

    public void Publish(LiveEvent e)
    {
        foreach (var listener in listeners.Values)
        {
            // Who reads too slowly misses events, and is told to look anew.
            if (!listener.Writer.TryWrite(e))
            {
                while (listener.Reader.TryRead(out _))
                {
                }

                listener.Writer.TryWrite(new LiveEvent("missed", "{}"));
            }
        }
    }

    public void Changed(IEnumerable<string> databases, IEnumerable<Guid> runs, bool fleet = false) =>
        Publish(new LiveEvent("changed", JsonSerializer.Serialize(new { databases, runs, fleet })));

    public async IAsyncEnumerable<LiveEvent> Listen([System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken cancel)
    {
        var id = Guid.NewGuid();
        var channel = Channel.CreateBounded<LiveEvent>(new BoundedChannelOptions(256) { FullMode = BoundedChannelFullMode.Wait });
        listeners[id] = channel;
        try
        {
            await foreach (var e in channel.Reader.ReadAllAsync(cancel))
            {
                yield return e;
            }
        }
        finally
        {
            listeners.TryRemove(id, out _);
        }
    }
}

/// <summary>One event: its name and its data as JSON.</summary>
internal sealed record LiveEvent(string Name, string Data);
