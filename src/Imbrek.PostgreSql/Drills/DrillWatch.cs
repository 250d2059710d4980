using Imbrek.PostgreSql.Cluster;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drills;

/// <summary>Whoever looks on at a drill of a real cluster: each second a marker is written on both sides and through the usual address, each by a connection of its own, and what was taken is kept.</summary>
internal sealed class DrillWatch : IAsyncDisposable
{
    /// <summary>The schema the markers lie in; the role that signs in owns it.</summary>
    public const string Schema = "imbrek";

    /// <summary>How long a write may take: what is kept is when it was committed, so that one that waits on a busy machine is none that failed. Where nobody listens the answer is there at once.</summary>
    private const int PatienceSeconds = 3;
    private static readonly TimeSpan Second = TimeSpan.FromSeconds(1);
    private readonly CancellationTokenSource ending = new();
    private readonly Task task;

    /// <summary>Begins to look on.</summary>
    /// <param name="kept">The drill.</param>
    /// <param name="trail">Where it is written down.</param>
    /// <param name="sides">Where both sides and the usual address are now; asked each second.</param>
    /// <param name="clock">The clock.</param>
    public DrillWatch(KeptDrill kept, FileStream trail, Func<(ISignIn? Here, ISignIn? There, ISignIn? Clients)> sides, IClock clock) => task = Task.Run(() => LookAsync(kept, trail, sides, clock, ending.Token));

    /// <summary>Whether it goes on.</summary>
    public bool Goes => !task.IsCompleted;

    /// <summary>Tries a write.</summary>
    /// <param name="at">Where.</param>
    /// <param name="run">The drill.</param>
    /// <param name="cancel">Gives up.</param>
    /// <returns>When it was committed; null when it was refused, or nobody answered in time.</returns>
    public static async Task<Instant?> TryAsync(ISignIn at, Guid run, CancellationToken cancel)
    {
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        patience.CancelAfter(TimeSpan.FromSeconds(PatienceSeconds));
        try
        {
            await using var connection = await Connections.OpenAsync(at, patience.Token);
            await using var insert = new NpgsqlCommand($"insert into {Schema}.marks (run, at) values ($1, clock_timestamp()) returning at at time zone 'utc'", connection);
            insert.Parameters.AddWithValue(run);
            return await insert.ExecuteScalarAsync(patience.Token) is DateTime t ? Connections.AtUtc(t) : null;
        }
        catch (Exception e) when (e is NpgsqlException or Core.Drivers.DriverException or TimeoutException or OperationCanceledException && !cancel.IsCancellationRequested)
        {
            return null;
        }
    }

    public async ValueTask DisposeAsync()
    {
        await ending.CancelAsync();
        await task.ContinueWith(_ => { }, TaskScheduler.Default);
        ending.Dispose();
    }

    private static async Task LookAsync(KeptDrill kept, FileStream trail, Func<(ISignIn? Here, ISignIn? There, ISignIn? Clients)> sides, IClock clock, CancellationToken cancel)
    {
        await using (trail)
        {
            using var timer = new PeriodicTimer(Second);
            do
            {
                var (at, (here, there, clients)) = (clock.GetCurrentInstant(), sides());
                Task<Instant?> Try(ISignIn? side) => side is null ? Task.FromResult<Instant?>(null) : TryAsync(side, kept.Now.Run, cancel);
                var tried = await Task.WhenAll(Try(here), Try(there), Try(clients));
                await trail.WriteAsync(System.Text.Encoding.UTF8.GetBytes(KeptDrill.Line(new(at, tried[0], tried[1], tried[2]))), cancel);
                await trail.FlushAsync(cancel);
            }
            while (await timer.WaitForNextTickAsync(cancel));
        }
    }
}
