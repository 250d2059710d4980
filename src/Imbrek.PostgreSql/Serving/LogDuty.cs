using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Data;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using Imbrek.Server;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Live;
using Imbrek.Server.State;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using NodaTime;
using Npgsql;
using NpgsqlTypes;

namespace Imbrek.PostgreSql.Serving;

/// <summary>
/// The duty to receive the log of each cluster: one process has it, by a lease whose every taking raises a fence that all it writes carries. When that process goes, another goes on
/// within <see cref="LeaseSeconds"/> and a look, where the slot stands.
/// </summary>
internal sealed class LogDuty(
    NpgsqlDataSource source, ClusterBook book, FleetState fleet, Peers peers, LiveEvents live, IGuest guest, Dispatcher dispatcher, StandbyWatch standbys, IClock clock, ILogger<LogDuty> log) : BackgroundService
{
    private const int LeaseSeconds = 5;
    private const int LongestReason = 500;
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);
    private static readonly Duration FilesLooked = Duration.FromSeconds(30);
    private readonly NpgsqlDataSource source = source;
    private readonly ClusterBook book = book;
    private readonly FleetState fleet = fleet;
    private readonly Peers peers = peers;
    private readonly IGuest guest = guest;
    private readonly Dispatcher dispatcher = dispatcher;
    private readonly IClock clock = clock;
    private readonly SemaphoreSlim wake = new(0, 1);

    /// <summary>Looks at once: a cluster was added or removed.</summary>
    public void Wake()
    {
        try
        {
            wake.Release();
        }
        catch (SemaphoreFullException)
        {
            // It will look anyway.
        }
    }

    /// <inheritdoc/>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var mine = new Dictionary<string, (Task Work, ClusterSpec Spec, CancellationTokenSource Stop)>();
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await book.LoadAsync(stoppingToken);
                foreach (var (database, spec) in book.All.Where(c => !mine.ContainsKey(c.Key)))
                {
                    if (await TakeAsync(database, stoppingToken) is { } fence)
                    {
                        var stop = CancellationTokenSource.CreateLinkedTokenSource(stoppingToken);
                        mine[database] = (Task.Run(() => ServeAsync(spec, fence, stop), CancellationToken.None), spec, stop);
                    }
                }

                foreach (var (database, (work, spec, stop)) in mine.ToArray())
                {
                    // It is gone, or somewhere else.
                    if (!book.All.TryGetValue(database, out var now) || (now.Address, now.Port) != (spec.Address, spec.Port))
                    {
                        await stop.CancelAsync();
                    }

                    if (work.IsCompleted)
                    {
                        mine.Remove(database);
                        stop.Dispose();
                        await work;
                    }
                }
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                log.LogWarning("Clusters cannot be looked at for the moment: {Reason}", e.Message);
            }

            try
            {
                await wake.WaitAsync(Look, stoppingToken);
            }
            catch (OperationCanceledException)
            {
                break;
            }
        }

        await Task.WhenAll(mine.Values.Select(m => m.Work));
    }

    /// <summary>Takes the duty; null when another process has it.</summary>
    private async Task<long?> TakeAsync(string database, CancellationToken cancel)
    {
        await using var command = source.CreateCommand(
            $"""
            update clusters set owner = $2, fence = fence + 1, lease_until = clock_timestamp() + interval '{LeaseSeconds} seconds'
            where database = $1 and (lease_until is null or lease_until < clock_timestamp()) returning fence
            """);
        command.Parameters.AddWithValue(database);
        command.Parameters.AddWithValue(live.Process);
        return (long?)await command.ExecuteScalarAsync(cancel);
    }

    private async Task<bool> HoldAsync(string database, long fence, int seconds, CancellationToken cancel)
    {
        await using var command = source.CreateCommand("update clusters set lease_until = clock_timestamp() + make_interval(secs => $3) where database = $1 and fence = $2");
        command.CommandTimeout = LeaseSeconds / 2;
        command.Parameters.AddWithValue(database);
        command.Parameters.AddWithValue(fence);
        command.Parameters.AddWithValue((double)seconds);
        return await command.ExecuteNonQueryAsync(cancel) == 1;
    }

    /// <summary>Receives while the lease holds, and takes up again what ended.</summary>
    private async Task ServeAsync(ClusterSpec spec, long fence, CancellationTokenSource stop)
    {
        var sink = new Sink(this, spec, fence);
        var holding = KeepHoldAsync();
        var watching = standbys.RunAsync(spec.Database, stop.Token);
        var pause = TimeSpan.FromMilliseconds(250);
        while (!stop.IsCancellationRequested)
        {
            var began = clock.GetCurrentInstant();
            try
            {
                await new LogReceiver(spec, book.Store(new(spec.LogStore)), sink, clock).RunAsync(stop.Token);
            }
            catch (DutyLostException)
            {
                await stop.CancelAsync();
            }
            catch (Exception e) when (!stop.IsCancellationRequested)
            {
                log.LogWarning("The log of {Database} is not received: {Reason}", spec.Database, e.Message);
                await FailedAsync(spec, fence, e.Message, stop.Token);
            }
            catch (Exception)
            {
                // It was told to stop.
                break;
            }

            // The longer it fails, the longer it waits, up to a few seconds: what is missing grows meanwhile.
            pause = clock.GetCurrentInstant() - began > Duration.FromSeconds(30) ? TimeSpan.FromMilliseconds(250) : TimeSpan.FromSeconds(Math.Min(4, pause.TotalSeconds * 2));
            try
            {
                using var timer = new PeriodicTimer(pause);
                await timer.WaitForNextTickAsync(stop.Token);
            }
            catch (OperationCanceledException)
            {
                break;
            }
        }

        await stop.CancelAsync();
        await Task.WhenAll(holding, watching);

        async Task KeepHoldAsync()
        {
            using var timer = new PeriodicTimer(Look);
            var looked = Instant.MinValue;
            var held = clock.GetCurrentInstant();
            try
            {
                while (await timer.WaitForNextTickAsync(stop.Token))
                {
                    try
                    {
                        if (!await HoldAsync(spec.Database, fence, LeaseSeconds, stop.Token))
                        {
                            break;
                        }

                        held = clock.GetCurrentInstant();
                        if (held - looked > FilesLooked)
                        {
                            looked = held;
                            await LookForFilesAsync(sink, spec, stop.Token);
                        }
                    }
                    catch (Exception e) when (e is NpgsqlException or TimeoutException or IOException or InvalidOperationException or DriverException)
                    {
                        // Whether it still has the duty nobody can say once the lease is over.
                        if (clock.GetCurrentInstant() - held > Duration.FromSeconds(LeaseSeconds))
                        {
                            break;
                        }
                    }
                }
            }
            catch (OperationCanceledException)
            {
            }

            await stop.CancelAsync();
            try
            {
                await HoldAsync(spec.Database, fence, 0, CancellationToken.None);
            }
            catch (Exception e) when (e is NpgsqlException or TimeoutException or IOException or InvalidOperationException)
            {
                // The lease runs out by itself.
            }
        }
    }

    /// <summary>Says why nothing is received, and watches that the source is not filled meanwhile.</summary>
    private async Task FailedAsync(ClusterSpec spec, long fence, string why, CancellationToken cancel)
    {
        var last = book.ReceivedOf(spec.Database);
        long kept = last?.KeptBytes ?? 0;
        try
        {
            var (found, givenUp) = await LogReceiver.GuardAsync(spec, cancel);
            kept = found ?? 0;
            why = givenUp ? $"{why}; the source kept {found:N0} bytes for us, more than the {spec.LogRoomBytes:N0} it may: our slot was given up, and there is a gap until the next full" : why;
        }
        catch (Exception e) when (e is DriverException or NpgsqlException or TimeoutException)
        {
            // It cannot be asked either.
        }

        try
        {
            await new Sink(this, spec, fence).KeepAsync(
                [], new Received(clock.GetCurrentInstant(), last?.Timeline ?? 1, last?.Position ?? 0, last?.SourcePosition ?? 0, last?.CoversTo, kept, Shown(why)), cancel);
        }
        catch (Exception e) when (e is NpgsqlException or DutyLostException or TimeoutException or InvalidOperationException)
        {
            log.LogWarning("It cannot be kept either: {Reason}", e.Message);
        }
    }

    /// <summary>A reason as it may be shown: bounded, on one line.</summary>
    private static string Shown(string why) => string.Concat(why.Take(LongestReason).Select(c => char.IsControl(c) ? ' ' : c));

    /// <summary>Looks whether the files of the log are there that sets name: what is missing is said before somebody needs it.</summary>
    private async Task LookForFilesAsync(Sink sink, ClusterSpec spec, CancellationToken cancel)
    {
        var store = book.Store(new(spec.LogStore));
        var folder = store.Log(spec.Database);
        if (!store.Here || !Directory.Exists(folder) || book.ReceivedOf(spec.Database) is not { } now)
        {
            return;
        }

        var there = new DirectoryInfo(folder).EnumerateFiles().Select(f => f.Name.EndsWith(FolderStore.Partial, StringComparison.Ordinal) ? f.Name[..^FolderStore.Partial.Length] : f.Name).ToHashSet();
        var segments = store.LogSegments(spec.Database);
        var lost = new List<BackupSet>();
        foreach (var set in fleet[spec.Database].Subject.Catalogue.Sets)
        {
            var i = set.Copies.ToList().FindIndex(c => c.Store.Value == spec.LogStore && c.RemovedAt is null && c.State != CopyState.Damaged);
            if (set.Kind == SetKind.Log && i >= 0 && set.ToPosition < now.Position
                && segments.Over(new(set.FromPosition!.Value), new(set.ToPosition)).Any(s => !there.Contains(segments.NameOf(set.Branch, s))))
            {
                lost.Add(set with { Copies = [.. set.Copies.Select((c, k) => k == i ? c with { State = CopyState.Damaged } : c)] });
            }
        }

        if (lost.Count > 0)
        {
            log.LogWarning("Files of the log of {Database} are missing in {Store}: {Count} sets cannot be restored from it", spec.Database, spec.LogStore, lost.Count);
            await sink.KeepAsync(lost, now, cancel);
        }
    }

    /// <summary>Where one cluster's log becomes known.</summary>
    private sealed class Sink(LogDuty duty, ClusterSpec spec, long fence) : ILogSink
    {
        public BackupSet? Newest => duty.book.NewestLog(new(spec.Database));

        public IReadOnlyList<BackupSet> LogBehind(int branch, Lsn position) => duty.book.LogBehind(new(spec.Database), branch, position);

        /// <summary>A quarter of what may be lost, so that what was lost at worst, as sets tell it afterwards, stays well below that.</summary>
        public double SetSeconds => Math.Clamp((duty.fleet.Has(spec.Database) ? duty.fleet[spec.Database].Subject.Objective?.RpoSeconds : null) / 4 ?? 60, 2, 60);

        public async Task KeepAsync(IReadOnlyList<BackupSet> sets, Received now, CancellationToken cancel)
        {
            await using var connection = await duty.source.OpenConnectionAsync(cancel);
            await using var batch = new NpgsqlBatch(connection);
            var hold = new NpgsqlBatchCommand("update clusters set received = $3 where database = $1 and fence = $2");
            hold.Parameters.Add(new NpgsqlParameter { Value = spec.Database });
            hold.Parameters.Add(new NpgsqlParameter { Value = fence });
            hold.Parameters.Add(new NpgsqlParameter { Value = ClusterBook.Write(now), NpgsqlDbType = NpgsqlDbType.Jsonb });
            batch.BatchCommands.Add(hold);
            CatalogueTable.Add(batch, sets, CatalogueTable.Writer.Receiver(spec.Database, fence));
            await batch.ExecuteNonQueryAsync(cancel);
            if (hold.RecordsAffected == 0)
            {
                throw new DutyLostException();
            }

            duty.book.Hear(spec.Database, now);
            if (duty.fleet.Has(spec.Database))
            {
                duty.fleet.Change(new(spec.Database), sets);
                await duty.peers.TellAsync([spec.Database], [], cancel);
            }
        }

        public async Task BranchAsync(int timeline, int parent, Lsn at, Instant forkAt, Instant startsAt, CancellationToken cancel)
        {
            var branch = FleetFile.Write(new Branch(timeline, parent, at.Value, forkAt, startsAt));
            await FleetParts.ChangeAsync(
                [
                    new FleetParts.Change("databases", spec.Database, "went on in a new timeline", (items, index) =>
                    {
                        if (index >= 0 && items[index] is System.Text.Json.Nodes.JsonObject d)
                        {
                            d["branches"] ??= new System.Text.Json.Nodes.JsonArray();
                            var branches = d["branches"]!.AsArray();
                            if (!branches.Any(b => b!["id"]!.GetValue<int>() == timeline))
                            {
                                branches.Add(branch);
                            }
                        }
                    }),
                ],
                null,
                $"timeline {timeline} left {parent} at {at}",
                duty.fleet,
                duty.source,
                duty.guest,
                duty.dispatcher,
                duty.clock,
                "imbrek",
                null,
                cancel);
        }
    }
}
