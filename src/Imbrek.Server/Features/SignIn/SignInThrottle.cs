namespace Imbrek.Server.Features.SignIn;

/// <summary>
/// Slows down whoever guesses passwords: by name and address together, and by address. A name alone is never refused where somebody has signed in
/// with it before, and every wait ends, so that nobody can lock somebody else out for good. What is remembered is bounded.
/// </summary>
internal sealed class SignInThrottle(TimeProvider time)
{
    /// <summary>Wrong passwords of one name from one address before one waits.</summary>
    public const int Free = 5;

    /// <summary>Wrong passwords from one address, or of one name from addresses it never signed in from, before they wait.</summary>
    public const int FreeInAll = 60;

    private const int MostRemembered = 20_000;
    private static readonly TimeSpan First = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan LongestWait = TimeSpan.FromMinutes(5);
    private static readonly TimeSpan Forgotten = TimeSpan.FromMinutes(30);

    private readonly Lock gate = new();
    private readonly Dictionary<string, Failures> failures = [];
    private readonly Dictionary<string, DateTimeOffset> familiar = [];

    private readonly record struct Failures(int Count, DateTimeOffset Last);

    /// <summary>How long one must wait before the next try; null when one need not.</summary>
    public TimeSpan? Wait(string name, string address)
    {
        lock (gate)
        {
            var now = time.GetUtcNow();
            TimeSpan[] waits =
            [
                WaitOf(Pair(name, address), Free, now),
                WaitOf(Address(address), FreeInAll, now),
                familiar.ContainsKey(Pair(name, address)) ? TimeSpan.Zero : WaitOf(Name(name), FreeInAll, now),
            ];
            var longest = waits.Max();
            return longest > TimeSpan.Zero ? longest : null;
        }
    }

    /// <summary>Takes note of a wrong name or password.</summary>
    public void Failed(string name, string address)
    {
        lock (gate)
        {
            var now = time.GetUtcNow();
            Count(Pair(name, address));
            Count(Address(address));
            Count(Name(name));
            Bound(failures, f => f.Last);

            void Count(string key) => failures[key] = new Failures(failures.TryGetValue(key, out var f) && now - f.Last < Forgotten ? f.Count + 1 : 1, now);
        }
    }

    /// <summary>Takes note that somebody signed in.</summary>
    public void Succeeded(string name, string address)
    {
        lock (gate)
        {
            failures.Remove(Pair(name, address));
            familiar[Pair(name, address)] = time.GetUtcNow();
            Bound(familiar, f => f);
        }
    }

    private TimeSpan WaitOf(string key, int free, DateTimeOffset now)
    {
        if (!failures.TryGetValue(key, out var f) || f.Count < free || now - f.Last >= Forgotten)
        {
            return TimeSpan.Zero;
        }

        // 5 s, 10 s, 20 s, … up to five minutes.
        var wait = First * Math.Pow(2, Math.Min(f.Count - free, 10));
        return f.Last + (wait < LongestWait ? wait : LongestWait) - now;
    }

    private static void Bound<T>(Dictionary<string, T> remembered, Func<T, DateTimeOffset> when)
    {
        if (remembered.Count > MostRemembered)
        {
            foreach (var old in remembered.OrderBy(r => when(r.Value)).Take(MostRemembered / 10).Select(r => r.Key).ToArray())
            {
                remembered.Remove(old);
            }
        }
    }

    private static string Pair(string name, string address) => $"p {name.ToUpperInvariant()} {address}";

    private static string Address(string address) => $"a {address}";

    private static string Name(string name) => $"n {name.ToUpperInvariant()}";
}
