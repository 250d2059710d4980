using System.Diagnostics;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Puts a cluster on this machine back in place (ways, section 4): everybody is kept out of its engine, which goes on for those who save what it holds; then the data folder of what was restored takes the place of its own, under
/// the settings and sign-in rules it has now. Until the new engine answers the old folder stays, and takes its place again where that does not.
/// </summary>
internal sealed class InPlace(IClusterBook book, IClock clock)
{
    /// <summary>Why an export takes no cluster's place.</summary>
    public const string WhyNoExport = "what is loaded from an export is a cluster of its own, and takes the place of no other: restore it aside";

    private const string Rules = "pg_hba.conf";
    private readonly OwnStandbys own = new(book, clock);

    /// <summary>Has a cluster's engine go on where nobody but its owner reaches it: all that is connected is sent away.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="database">The database.</param>
    /// <param name="insteadOf">The run that may keep them out already, whose place this one takes; null for none.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <returns>What was done, in words.</returns>
    /// <exception cref="DriverException">It cannot, and says why; nothing has changed then.</exception>
    public async Task<string> ShutOutAsync(RunCall call, Id<Database> database, Guid? insteadOf, CancellationToken cancel)
    {
        var cluster = book.Cluster(database);
        if (await HearAsync(call, cluster, cancel) is null)
        {
            if (cluster.Aside is { } other)
            {
                if (other.Run != insteadOf)
                {
                    throw new DriverException(DriverProblem.Refused, $"everybody is kept out of {database} by another run already");
                }

                await book.AsideAsync(database, other with { Run = call.Run, Fence = call.Fence, InsteadOf = insteadOf }, cancel);
            }
            else
            {
                var engine = own.Primary(cluster) is { } mine ? new LocalEngine(mine.Data) : await LocalEngine.FindAsync(cluster, cancel);
                await SuitsAsync(engine.Data, database, cancel);

                // Before anything is done: whoever comes after a crash knows how it was.
                await book.AsideAsync(database, new KeptOut(call.Run, call.Fence, cluster.Address, engine.Data, await engine.OptionsAsync(cancel)), cancel);
            }
        }

        var now = book.Cluster(database);
        try
        {
            if (cluster.Aside is null)
            {
                await SendReceiverAwayAsync(cluster, cancel);
            }

            await AsideAsync(now, cancel);
            await using var connection = await Connections.OpenAsync(now, cancel);
        }
        catch (DriverException)
        {
            await LetInAsync(call, database, cancel);
            throw;
        }

        return $"the engine in {now.Aside!.Data} answers on a socket of its own alone";
    }

    /// <summary>
    /// Ends the sending of log to us, which begins again on the socket: an engine that stops waits until all it wrote is confirmed, and we confirm only what is known of. Where that cannot be, it is stopped all the same, and may take longer.
    /// </summary>
    private static async Task SendReceiverAwayAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        try
        {
            await using var connection = await Connections.OpenAsync(cluster, cancel);
            await LogReceiver.FreeAsync(connection, cluster.Slot, cancel);
        }
        catch (Exception e) when (e is DriverException or NpgsqlException or TimeoutException)
        {
            // Whether it stops is seen when it is stopped.
        }
    }

    /// <summary>Has it go on as it was, where this run keeps people out of it; where it does so in the place of another run, that one keeps them out from now on.</summary>
    /// <returns>Whether anybody was kept out.</returns>
    public async Task<bool> LetInAsync(RunCall call, Id<Database> database, CancellationToken cancel)
    {
        var cluster = book.Cluster(database);
        if (await HearAsync(call, cluster, cancel) is not { } aside)
        {
            return false;
        }

        if (aside.InsteadOf is { } first)
        {
            // Each time a process takes a run up its fence rises: none is below the lowest.
            await book.AsideAsync(database, aside with { Run = first, Fence = 0, InsteadOf = null }, cancel);
            return true;
        }

        if (await RunsAsideAsync(aside, cancel))
        {
            await new LocalEngine(aside.Data).StopAsync(cancel);
        }

        await UpAsync(cluster, cancel);
        await book.AsideAsync(database, null, cancel);
        return true;
    }

    /// <summary>Has what was restored take its place.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="database">The database.</param>
    /// <param name="host">The host it runs on.</param>
    /// <param name="there">What was restored; null where it is gone, because it took the place before.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">It cannot, and says why; the old one is there then, and everybody is kept out of it.</exception>
    public async Task<Promotion> PlaceAsync(RunCall call, Id<Database> database, Id<Host> host, Instance? there, CancellationToken cancel)
    {
        var (cluster, began) = (book.Cluster(database), Stopwatch.GetTimestamp());
        if (cluster.Placed is { } before && before.Run == call.Run)
        {
            await (there?.RemoveAsync(cancel) ?? Task.CompletedTask);
            return before.Came.ToPromotion();
        }

        if (there is null || await HearAsync(call, cluster, cancel) is not { } aside)
        {
            throw new DriverException(DriverProblem.Refused, there is null ? "there is nothing restored that could take its place" : $"nobody is kept out of {database}");
        }

        var engine = new LocalEngine(aside.Data);
        if (!Directory.Exists(there.Left))
        {
            if (engine.Runs && !await RunsAsideAsync(aside, cancel))
            {
                throw new DriverException(DriverProblem.Refused, $"somebody started the engine in {aside.Data}, and may have written to it since it was saved: call this off, and begin again");
            }

            await BranchAsync(there, cluster, host, cancel);
            await there.EndAsync(cancel);
            await engine.StopAsync(cancel);
            await there.SettleAsAsync(aside.Data, cancel);
            Directory.Move(aside.Data, there.Left);
        }

        if (!Directory.Exists(aside.Data))
        {
            Directory.Move(there.Data, aside.Data);
        }

        try
        {
            await UpAsync(cluster, cancel);
        }
        catch (DriverException e) when (e.Problem == DriverProblem.Refused)
        {
            await engine.StopAsync(cancel);
            Directory.Move(aside.Data, there.Data);
            Directory.Move(there.Left, aside.Data);
            await AsideAsync(cluster, cancel);
            throw new DriverException(DriverProblem.Refused, $"what was restored does not go on in its place, and what was there is back: {e.Message}");
        }

        var came = there.Now.Place! with { Seconds = Stopwatch.GetElapsedTime(began).TotalSeconds };
        await book.PlacedAsync(database, new Placed(call.Run, aside.Data, came), cancel);
        await there.RemoveAsync(cancel);
        return came.ToPromotion();
    }

    /// <summary>Ends the recovery of what was restored, and says which branch began: once, however often it is asked.</summary>
    private async Task BranchAsync(Instance there, ClusterSpec cluster, Id<Host> host, CancellationToken cancel)
    {
        if (there.Now.Place is not null)
        {
            return;
        }

        await there.PromoteAsync(cancel);
        await using var connection = await there.OpenAsync(null, cancel);

        // Its log must be kept for us from the beginning.
        await LogReceiver.MakeSlotAsync(connection, cluster.Slot, cancel);
        var timeline = await TimelineHistory.NowAsync(connection, cancel);
        var (parent, at) = TimelineHistory.Read(await File.ReadAllTextAsync(Path.Combine(there.Data, "pg_wal", Segments.HistoryOf(timeline)), cancel))[^1];
        var left = new List<Promotion.LeftBehind>();
        foreach (var standby in cluster.Standbys)
        {
            if (await WhyLeftAsync(standby, at, cancel) is { } why)
            {
                left.Add(new(new(standby.Replica), why));
            }
        }

        var branch = new Branch(timeline, parent, at.Value, Instants.Parse(there.Now.Reached!), clock.GetCurrentInstant());
        await there.KeepAsync(there.Now with { Place = KeptPromotion.Of(new Promotion(0, branch, host, 0, null, left)) }, cancel);
    }

    private static async Task<string?> WhyLeftAsync(StandbySpec standby, Lsn fork, CancellationToken cancel)
    {
        try
        {
            await using var connection = await Connections.OpenAsync(standby, cancel);
            return await connection.AskAsync<bool>($"select greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn()) > '{fork}'", cancel) ? "it holds log behind where the new branch began: set it up anew" : null;
        }
        catch (Exception e) when (e is DriverException or NpgsqlException or TimeoutException)
        {
            return $"it does not say what it holds: {e.Message}";
        }
    }

    /// <summary>Has its engine run aside, and nowhere else.</summary>
    private async Task AsideAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        var aside = cluster.Aside!;
        if (await RunsAsideAsync(aside, cancel))
        {
            return;
        }

        if (own.Primary(cluster) is { } mine)
        {
            // Whoever watches it must not start it meanwhile.
            await mine.KeepAsync(mine.Now with { Down = true }, cancel);
        }

        var engine = new LocalEngine(aside.Data);
        await engine.StopAsync(cancel);
        Directory.CreateDirectory(aside.Socket, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        await File.WriteAllTextAsync(Path.Combine(aside.Socket, Rules), "# Written by Imbrek: who can reach the socket may in, and nobody else.\nlocal all all trust\nlocal replication all trust\n", cancel);
        await Tools.GiveToEngineAsync(aside.Socket, cancel);
        await engine.StartAsync($"{aside.Options} -c listen_addresses= -c unix_socket_directories={Instance.Shell(aside.Socket)} -c hba_file={Instance.Shell(Path.Combine(aside.Socket, Rules))}", cancel);
    }

    /// <summary>Has whatever lies in its place run as its engine did before, and waits until it answers there.</summary>
    private async Task UpAsync(ClusterSpec cluster, CancellationToken cancel)
    {
        var aside = cluster.Aside!;
        if (Directory.Exists(aside.Socket))
        {
            Directory.Delete(aside.Socket, recursive: true);
        }

        if (own.Primary(cluster) is { } mine)
        {
            await mine.KeepAsync(mine.Now with { Down = false }, cancel);
            await mine.UpAsync(cancel);
            await using var first = await mine.OpenAsync(null, cancel);
        }
        else
        {
            await new LocalEngine(aside.Data).StartAsync(aside.Options, cancel);
        }
    }

    /// <summary>Whether its engine runs where nobody but its owner reaches it.</summary>
    internal static async Task<bool> RunsAsideAsync(KeptOut aside, CancellationToken cancel) =>
        new LocalEngine(aside.Data) is { Runs: true } engine && (await engine.OptionsAsync(cancel)).Contains(aside.Socket, StringComparison.Ordinal);

    /// <summary>How a run keeps people out, once a call of it has been heard; null where it does not.</summary>
    /// <exception cref="DriverException">A higher fence has been heard of.</exception>
    internal async Task<KeptOut?> HearAsync(RunCall call, ClusterSpec cluster, CancellationToken cancel)
    {
        if (cluster.Aside is not { } aside || aside.Run != call.Run)
        {
            return null;
        }

        if (aside.Fence != call.Fence)
        {
            aside = aside with { Fence = call.Fence };
            await book.AsideAsync(new(cluster.Database), aside, cancel);
        }

        return aside;
    }

    /// <summary>Whether a data folder can be changed for another.</summary>
    private async Task SuitsAsync(string data, Id<Database> database, CancellationToken cancel)
    {
        if (Path.GetDirectoryName(data) is not { Length: > 0 })
        {
            throw new DriverException(DriverProblem.Refused, $"{data} is a volume: nothing can take its place");
        }

        LocalEngine.MustTakeSocket(KeptOut.SocketOf(data));
        if (new DirectoryInfo(Path.Combine(data, "pg_wal")).LinkTarget is { } elsewhere || (elsewhere = new DirectoryInfo(data).LinkTarget) is not null)
        {
            throw new DriverException(DriverProblem.Refused, $"part of {data} lies in {elsewhere}: it cannot be changed for another as one folder");
        }

        string restored;
        try
        {
            restored = book.InstancesOn(book.HostOf(database));
        }
        catch (DriverException)
        {
            // Where no folder is known it is restored beside it.
            return;
        }

        if ((await Tools.RunAsync("stat", ["--format", "%d", "--", data, restored], cancel)).Split('\n', StringSplitOptions.RemoveEmptyEntries).Distinct().Count() > 1)
        {
            throw new DriverException(DriverProblem.Refused, $"{data} and {restored}, where it would be restored, lie on two volumes: one cannot take the place of the other without being copied");
        }
    }
}
