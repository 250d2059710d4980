using System.Text.Json;
using System.Threading.Channels;

namespace Imbrek.Server.Features.Live;

/// <summary>Hands what happens to everybody who listens on this process. How many listen is bounded, per person and in all.</summary>
internal sealed class LiveEvents
{
    /// <summary>The most streams of one person: a browser with many pages.</summary>
    public const int MostOfOne = 20;

    /// <summary>The most streams of this process.</summary>
    public const int MostInAll = 1_000;

    private readonly Lock gate = new();
    private readonly List<Listener> listeners = [];

    /// <summary>Marks what this process tells the others, so that it does not take it for news itself.</summary>
    public string Process { get; } = Guid.NewGuid().ToString("n");

    public void Publish(LiveEvent e)
    {
        Listener[] now;
        lock (gate)
        {
            now = [.. listeners];
        }

        foreach (var listener in now)
        {
            // Who reads too slowly misses events, and is told to look anew.
            if (!listener.Events.Writer.TryWrite(e))
            {
                while (listener.Events.Reader.TryRead(out _))
                {
                }

                listener.Events.Writer.TryWrite(new LiveEvent("missed", "{}"));
            }
        }
    }

    public void Changed(IEnumerable<string> databases, IEnumerable<Guid> runs, bool fleet = false) =>
        Publish(new LiveEvent("changed", JsonSerializer.Serialize(new { databases, runs, fleet })));

    /// <summary>Begins to listen; null when there are too many who do.</summary>
    /// <param name="person">Who listens.</param>
    /// <param name="session">The session it is in; null for a token.</param>
    public Listener? Listen(string person, string? session)
    {
        lock (gate)
        {
            if (listeners.Count >= MostInAll || listeners.Count(l => l.Person == person) >= MostOfOne)
            {
                return null;
            }

            var listener = new Listener(this, person, session);
            listeners.Add(listener);
            return listener;
        }
    }

    /// <summary>Ends the streams of sessions that ended.</summary>
    public void End(IReadOnlyCollection<string> sessions)
    {
        Listener[] ended;
        lock (gate)
        {
            ended = [.. listeners.Where(l => l.Session is { } s && sessions.Contains(s))];
        }

        foreach (var listener in ended)
        {
            listener.Events.Writer.TryComplete();
        }
    }

    /// <summary>Somebody who listens, until disposed.</summary>
    internal sealed class Listener(LiveEvents to, string person, string? session) : IDisposable
    {
        public Channel<LiveEvent> Events { get; } = Channel.CreateBounded<LiveEvent>(new BoundedChannelOptions(256) { FullMode = BoundedChannelFullMode.Wait });

        public string Person => person;

        public string? Session => session;

        public void Dispose()
        {
            lock (to.gate)
            {
                to.listeners.Remove(this);
            }
        }
    }
}

/// <summary>One event: its name and its data as JSON.</summary>
internal sealed record LiveEvent(string Name, string Data);
