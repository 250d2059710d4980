using System.Diagnostics;
using System.Globalization;
using System.Net;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Restores clusters aside on this machine: unpacked, brought forward by the engine to a position, held while its recovery is paused, promoted or removed.</summary>
internal sealed class PostgreSqlRestoreDriver(IClusterBook book, IClock clock) : IRestoreDriver
{
    private readonly InPlace inPlace = new(book, clock);
    private readonly NewHome newHome = new(book, clock);

    /// <summary>The number of the part that masks a clone.</summary>
    private const int Masking = 1;

    /// <summary>How long a check of a copy waits for a table that somebody holds.</summary>
    private const int LockSeconds = 5;

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(150);

    /// <inheritdoc/>
    public async Task<Moved> ProvisionAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var (began, folder) = (Stopwatch.GetTimestamp(), FolderOf(instance));
        if (Instance.Find(folder) is { } there)
        {
            return there.Now.Owner == instance.Owner ? Moved.Nothing : throw new DriverException(DriverProblem.Refused, $"{instance.Name} on {instance.Host} is an instance of another run");
        }

        try
        {
            Fences.Hear(Path.Combine(folder, "fence"), call);
            await Instance.MakeAsync(folder, instance.Owner, book.Cluster(instance.Database).User, cancel);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new DriverException(e.Message.Contains("No space", StringComparison.Ordinal) ? DriverProblem.NoRoom : DriverProblem.Unreachable, $"{instance.Host}: {e.Message}");
        }

        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, 0);
    }

    /// <inheritdoc/>
    /// <remarks>Its port stays: who is let in again finds it where it was.</remarks>
    public async Task<Moved> EmptyAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        if (Instance.Find(FolderOf(instance)) is null)
        {
            return await ProvisionAsync(call, instance, cancel);
        }

        var began = Stopwatch.GetTimestamp();
        await Require(call, instance).AnewAsync(cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, 0);
    }

    /// <inheritdoc/>
    public async Task<Moved> RestoreSetAsync(RunCall call, InstanceSpec instance, SetCopy copy, CancellationToken cancel)
    {
        var there = Require(call, instance);
        if (there.Now.Restored == copy.Set.Value)
        {
            return Moved.Nothing;
        }

        return book.Set(instance.Database, copy.Set)?.Kind == SetKind.Export ? await LoadAsync(there, instance, copy, cancel) : await UnpackAsync(there, instance, copy, cancel);
    }

    /// <summary>Loads an export into an instance, whatever it held: every file is read and compared before.</summary>
    private async Task<Moved> LoadAsync(Instance there, InstanceSpec instance, SetCopy copy, CancellationToken cancel)
    {
        var (began, folder) = (Stopwatch.GetTimestamp(), book.Store(copy.Store).Export(instance.Database.Value, copy.Set.Value));
        if (!book.Store(copy.Store).Here || !Directory.Exists(folder))
        {
            throw new DriverException(DriverProblem.CopyUnreachable, $"{copy.Set} is not in store {copy.Store} any more", copy);
        }

        ExportNote note;
        try
        {
            note = await ExportNote.ReadAsync(folder, cancel);
        }
        catch (InvalidDataException e)
        {
            throw new DriverException(DriverProblem.CopyDamaged, $"{copy.Set} in {copy.Store} is damaged: {e.Message}", copy);
        }
        catch (IOException e)
        {
            throw new DriverException(DriverProblem.CopyUnreachable, e.Message, copy);
        }

        await Dump.LoadAsync(there, folder, note, cancel);
        await there.KeepAsync(there.Now with { Restored = copy.Set.Value, StoppedAt = "the export alone", Reached = note.CoversTo }, cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, note.StoredBytes, Instants.Parse(note.CoversTo), note.Position);
    }

    /// <summary>Unpacks a full into an instance, whatever it held.</summary>
    private async Task<Moved> UnpackAsync(Instance there, InstanceSpec instance, SetCopy copy, CancellationToken cancel)
    {
        var began = Stopwatch.GetTimestamp();
        var folder = book.Store(copy.Store).Full(instance.Database.Value, copy.Set.Value);
        if (!book.Store(copy.Store).Here || !Directory.Exists(folder))
        {
            throw new DriverException(DriverProblem.CopyUnreachable, $"{copy.Set} is not in store {copy.Store} any more", copy);
        }

        await there.EmptyAsync(cancel);
        PackedBackup.Contents read;
        try
        {
            read = await new PackedBackup(folder, FullNote.SegmentsOf(folder)).ReadAsync(there.Data, cancel);
        }
        catch (Exception e) when (e is InvalidDataException or LogBrokenException or FileNotFoundException)
        {
            throw new DriverException(DriverProblem.CopyDamaged, $"{copy.Set} in {copy.Store} is damaged: {e.Message}", copy);
        }
        catch (IOException e)
        {
            throw e.Message.Contains("No space", StringComparison.Ordinal) ? new DriverException(DriverProblem.NoRoom, $"{instance.Host} is full: {e.Message}") : new DriverException(DriverProblem.CopyUnreachable, e.Message, copy);
        }

        await there.KeepAsync(there.Now with { Restored = copy.Set.Value, StoppedAt = null, Reached = null, Begun = false, Promoted = false, StoodAt = null, Loaded = false, LastCommit = FullNote.LastCommitIn(folder).ToUnixTimeTicks() }, cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, read.StoredBytes);
    }

    /// <inheritdoc/>
    public async Task<Moved> ApplyLogsAsync(RunCall call, InstanceSpec instance, IReadOnlyList<SetCopy> logs, LogStop? stop, Action<int> applied, CancellationToken cancel)
    {
        var (there, began) = (Require(call, instance), Stopwatch.GetTimestamp());
        if (there.Now.Loaded)
        {
            throw new DriverException(DriverProblem.Refused, "what was loaded from an export takes no log");
        }

        var asked = $"{stop?.At} {stop?.Before} {logs[^1].Set}";
        if (there.Now.StoppedAt == asked)
        {
            return Moved.Nothing;
        }

        var restored = book.Set(instance.Database, new(there.Now.Restored ?? throw new DriverException(DriverProblem.Refused, "there is nothing restored that log could be applied to")))
            ?? throw new DriverException(DriverProblem.Refused, $"{there.Now.Restored} is not known any more");
        if (there.Now.Begun)
        {
            // An engine that recovered once, or was about to when its caller died, cannot be sent elsewhere: it begins anew from the base.
            await UnpackAsync(there, instance, new SetCopy(restored.Id, restored.Copies.First(c => c.RemovedAt is null && c.State != CopyState.Damaged).Store), cancel);
        }

        var (segments, bytes) = await BroughtLog.BringAsync(book, there, instance.Database, logs, cancel);
        if (stop is { Before: null, At: var at } && there.Now.LastCommit is { } ticks && Instant.FromUnixTimeTicks(ticks) > at)
        {
            throw new DriverException(DriverProblem.Refused, $"{restored.Id} ends with a commit of {Instant.FromUnixTimeTicks(ticks)}, a moment after what is wanted: ask for an instant behind it, or for the full before");
        }

        var (next, last, timeline, trail) = await StopPoint.FindAsync(book, there, instance.Database, restored, logs, stop, segments, cancel);
        await there.RecoverAsync(
            new Dictionary<string, string>
            {
                ["recovery_target_lsn"] = (next?.Position ?? last).ToString(),
                ["recovery_target_inclusive"] = next is null ? "on" : "off",
                ["recovery_target_timeline"] = timeline.ToString(CultureInfo.InvariantCulture),
            },
            cancel);
        var from = restored.ToPosition;
        var position = await PausedAsync(there, at => applied((int)(logs.Count * Math.Clamp((at.Value - from) / (double)Math.Max(1, (next?.Position ?? last).Value - from), 0, 1))), cancel);

        // What it holds is told by where its engine stands: everything up to the first commit it has not replayed.
        var after = (await StopPoint.FindAsync(book, there, instance.Database, restored, logs, new LogStop(Instant.MinValue, position.Value), segments, cancel)).Next;
        var covers = book.Set(instance.Database, logs[^1].Set)?.CoversTo ?? restored.CoversTo;
        var upTo = after is { } c ? Instant.FromUnixTimeTicks(c.At.ToUnixTimeTicks() - 10) : covers;
        var reached = stop is { } s && s.Before is null ? Instant.Min(s.At, upTo) : upTo;
        await there.KeepAsync(there.Now with { StoppedAt = asked, Reached = Instants.Write(reached), TrailBefore = trail, StopBefore = stop?.Before }, cancel);
        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, bytes, reached, position.Value);
    }

    /// <inheritdoc/>
    public async Task<Moved> OpenAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var (there, began) = (Require(call, instance), Stopwatch.GetTimestamp());
        if (there.Now.Restored is not { } full)
        {
            throw new DriverException(DriverProblem.Refused, "there is nothing restored");
        }

        if (there.Now.Loaded)
        {
            await there.UpAsync(cancel);
            return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, 0, Instants.Parse(there.Now.Reached!));
        }

        if (!there.Now.Begun)
        {
            // The base alone: as soon as it is consistent.
            await there.RecoverAsync(new Dictionary<string, string> { ["recovery_target"] = "immediate" }, cancel);
        }
        else
        {
            await there.UpAsync(cancel);
        }

        var position = await PausedAsync(there, _ => { }, cancel);
        if (there.Now.Reached is null)
        {
            var covers = book.Set(instance.Database, new(full))!.CoversTo;
            await there.KeepAsync(there.Now with { StoppedAt = "the base alone", Reached = Instants.Write(covers) }, cancel);
        }

        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, 0, Instants.Parse(there.Now.Reached!), position.Value);
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<CheckResult>> CheckAsync(RunCall call, InstanceSpec instance, Instant wanted, CheckWish? wish, CancellationToken cancel)
    {
        var (there, cluster) = (Require(call, instance), book.Cluster(instance.Database));
        await there.UpAsync(cancel);
        var (stood, held) = there.Now.Loaded ? default : await StoodAsync(there, cancel);
        await using var connection = await there.OpenAsync(null, cancel);
        var reached = Instants.Parse(there.Now.Reached ?? Instants.Write(Instant.MinValue));
        if (there.Now.Loaded)
        {
            return [.. await LoadedAsync(there, instance, connection, reached, wanted, wish, cancel), .. wish?.Query is { } asked ? [await OwnQuery.CheckAsync(there, cluster, asked, cancel)] : Array.Empty<CheckResult>()];
        }

        List<CheckResult> results =
        [
            new("stands still", stood is not null, $"its recovery {(stood is null ? "goes on" : held ? $"stood still at {stood} and was ended there: a transaction under way then held tables, and nobody could have read them" : $"stands still at {stood}")}; look with: psql -h {there.Socket} -p {there.Now.Port} -U {connection.UserName} {cluster.SignInTo}"),
            there.Now.StopBefore is { } before
                ? new("stands just before", stood is { } at && Lsn.Parse(at).Value <= before, $"has replayed up to {stood}; {new Lsn(before)} and all behind it must not be in it")
                : new("reaches what was promised", reached.ToUnixTimeMilliseconds() >= wanted.ToUnixTimeMilliseconds(), $"holds all up to {Instants.Write(reached)}; promised was {Instants.Write(wanted)}"),
        ];
        results.AddRange(await StructureAsync(there, connection, wish, cancel));
        results.AddRange(await Trail.CheckAsync(connection, name => there.OpenAsync(name, cancel), there.Now.TrailBefore, cancel));
        if (wish?.Query is { } query)
        {
            results.Add(await OwnQuery.CheckAsync(there, cluster, query, cancel));
        }

        return results;
    }

    /// <summary>
    /// Where its recovery stands still; null when it does not. A transaction that is under way there may hold tables, those it alters or drops: while recovery stands still it neither commits nor is undone, and whoever reads them
    /// waits. Then recovery is ended there, which undoes it.
    /// </summary>
    private static async Task<(string? At, bool Held)> StoodAsync(Instance there, CancellationToken cancel)
    {
        if (there.Now.StoodAt is null)
        {
            await using var connection = await there.OpenAsync(null, cancel);
            var (at, held) = (await connection.RowsAsync(
                """
                select case when pg_get_wal_replay_pause_state() = 'paused' then pg_last_wal_replay_lsn()::text end,
                  exists (select from pg_locks l join pg_stat_activity a using (pid) where a.backend_type = 'startup' and l.locktype = 'relation' and l.mode = 'AccessExclusiveLock')
                """,
                r => (r.IsDBNull(0) ? null : r.GetString(0), r.GetBoolean(1)),
                cancel))[0];
            if (at is null || !held)
            {
                return (at, false);
            }

            await there.KeepAsync(there.Now with { StoodAt = at }, cancel);
        }

        await there.PromoteAsync(cancel);
        return (there.Now.StoodAt, true);
    }

    /// <summary>Reads every table and index. Nobody works in it: who holds a table there is a transaction that was prepared and never ended, and would do so for ever.</summary>
    /// <exception cref="DriverException">A table is held.</exception>
    private static async Task<IReadOnlyList<CheckResult>> StructureAsync(Instance there, NpgsqlConnection connection, CheckWish? wish, CancellationToken cancel)
    {
        try
        {
            return (await Structure.CheckAsync(connection, OpenAsync, cancel, wish?.WithinSeconds)).Found;
        }
        catch (PostgresException e) when (e.SqlState == PostgresErrorCodes.LockNotAvailable)
        {
            throw new DriverException(DriverProblem.Refused, "a transaction that was prepared and never ended holds a table, which cannot be read until it is ended");
        }

        async Task<NpgsqlConnection> OpenAsync(string name)
        {
            var inside = await there.OpenAsync(name, cancel);
            await using var patience = new NpgsqlCommand($"set lock_timeout = '{LockSeconds}s'", inside);
            await patience.ExecuteNonQueryAsync(cancel);
            return inside;
        }
    }

    /// <summary>Checks what was loaded from an export.</summary>
    private async Task<IReadOnlyList<CheckResult>> LoadedAsync(Instance there, InstanceSpec instance, NpgsqlConnection connection, Instant reached, Instant wanted, CheckWish? wish, CancellationToken cancel)
    {
        var note = book.Set(instance.Database, new(there.Now.Restored ?? ""))?.Copies.Where(c => c.RemovedAt is null).Select(c => ExportNote.In(book.Store(c.Store).Export(instance.Database.Value, there.Now.Restored!))).FirstOrDefault(n => n is not null)
            ?? throw new DriverException(DriverProblem.Refused, $"what was dumped as {there.Now.Restored} is not known any more");
        return
        [
            new("reaches what was promised", reached.ToUnixTimeMilliseconds() >= wanted.ToUnixTimeMilliseconds(), $"holds all up to {Instants.Write(reached)}; promised was {Instants.Write(wanted)}"),
            .. await Dump.CheckAsync(there, note, cancel),
            .. await StructureAsync(there, connection, wish, cancel),
            .. await Trail.CheckAsync(connection, name => there.OpenAsync(name, cancel), null, cancel),
        ];
    }

    /// <inheritdoc/>
    public async Task<IReadOnlyList<CheckResult>> MaskAsync(RunCall call, InstanceSpec instance, IReadOnlyList<string> statements, CancellationToken cancel)
    {
        var there = Require(call, instance);
        if (there.Now.Released)
        {
            throw new DriverException(DriverProblem.Refused, $"somebody is let into {instance.Name} already; nothing is masked behind their backs");
        }

        var done = await Statements.DoAsync(new ChangeGround.Copy(there, book.Cluster(instance.Database).SignInTo), Masking, 0, statements, cancel);
        return [.. done.Statements.Select(s => new CheckResult($"mask \"{s.Statement}\"", true, s.Said))];
    }

    /// <inheritdoc/>
    /// <remarks>
    /// What is read stands still and listens on a socket of its own: it is looked at through the product. A clone has rules of its own for those named; where it was masked, they get into the database that was masked alone, for what
    /// else the cluster holds is as it was.
    /// </remarks>
    public async Task<LetIn> LetInAsync(RunCall call, InstanceSpec instance, IReadOnlyList<Id<Host>> hosts, bool readOnly, CancellationToken cancel)
    {
        var (there, cluster) = (Require(call, instance), book.Cluster(instance.Database));
        if (readOnly)
        {
            return hosts.Count == 0
                ? new([new("for reading", true, $"on the socket in {there.Socket} alone")])
                : throw new DriverException(DriverProblem.Refused, "this driver opens a copy for reading through the product; hosts are let into clones");
        }

        var named = NamedHosts.Of(hosts.Select(h => book.Host(h) ?? throw new DriverException(DriverProblem.Refused, $"there is no host {h}")));
        var masked = there.Now.Parts is not null;
        await there.KeepAsync(there.Now with { Released = true }, cancel);
        await there.LetInAsync(string.Join(',', named.Listens), named.Rules(masked ? cluster.SignInTo : null), cancel);
        var tried = await named.TryAsync(there.Now.Port, cluster.User, cluster.SignInTo, book.Host(book.HostOf(instance.Database))?.Addresses.Select(NamedHosts.AddressOf).OfType<IPAddress>() ?? [], cancel);
        return new(tried, $"{string.Join(" and ", named.Listens)}, port {there.Now.Port}{(masked ? $", database {cluster.SignInTo} alone, which was masked" : "")}");
    }

    /// <inheritdoc/>
    public async Task<QueryRows> AskAsync(InstanceSpec instance, string query, int most, CancellationToken cancel)
    {
        if (Instance.Find(FolderOf(instance)) is not { } there || there.Now.Owner != instance.Owner || there.Now.Reached is null)
        {
            throw new DriverException(DriverProblem.Refused, $"{instance.Name} on {instance.Host} is not open");
        }

        try
        {
            await there.UpAsync(cancel);
            await using var connection = await there.OpenAsync(book.Cluster(instance.Database).SignInTo, cancel);
            return await OwnQuery.ReadAsync(connection, query, most, cancel);
        }
        catch (Exception e) when (OwnQuery.IsNoAnswer(e))
        {
            throw new DriverException(DriverProblem.Refused, OwnQuery.WhyNoAnswer(e));
        }
    }

    /// <inheritdoc/>
    public async Task<Moved> ReleaseAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var (there, began) = (Require(call, instance), Stopwatch.GetTimestamp());
        if (!there.Now.Released)
        {
            await there.ReleaseAsync(cancel);
            await there.KeepAsync(there.Now with { Released = true }, cancel);
        }

        return new Moved(Stopwatch.GetElapsedTime(began).TotalSeconds, 0, there.Now.Reached is { } r ? Instants.Parse(r) : null);
    }

    /// <inheritdoc/>
    public Task<IReadOnlyList<CheckResult>> TryMoveAsync(RunCall call, InstanceSpec instance, CancellationToken cancel) => newHome.TryAsync(instance, cancel);

    /// <inheritdoc/>
    public async Task<Promotion> PlaceAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var there = Instance.Find(FolderOf(instance)) is null ? null : Require(call, instance);
        if (there?.Now.Loaded == true)
        {
            return await newHome.PlaceAsync(call, instance, there, cancel);
        }

        var made = await inPlace.PlaceAsync(call, instance.Database, instance.Host, there, cancel);
        Instance.Sweep(FolderOf(instance));
        return made;
    }

    /// <inheritdoc/>
    public async Task DiscardAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var folder = FolderOf(instance);
        if (Instance.Find(folder) is { } there)
        {
            if (there.Now.Owner == instance.Owner && !IsHome(instance))
            {
                Fences.Hear(Path.Combine(folder, "fence"), call);
                await there.RemoveAsync(cancel);
            }
        }
        else if (Directory.Exists(folder) && File.Exists(Path.Combine(folder, "fence")))
        {
            // One that was about to be made.
            Fences.Hear(Path.Combine(folder, "fence"), call);
            Directory.Delete(folder, recursive: true);
        }

        if (Directory.Exists(Path.GetDirectoryName(folder)))
        {
            Instance.Sweep(folder);
        }
    }

    /// <summary>Whether a cluster lives in it, or did: nobody throws that away.</summary>
    private bool IsHome(InstanceSpec instance)
    {
        try
        {
            return book.Cluster(instance.Database).StandbyList?.Any(s => s.Replica == instance.Name && s.Host == instance.Host.Value) == true;
        }
        catch (DriverException)
        {
            // It is no cluster of this installation any more.
            return false;
        }
    }

    private string FolderOf(InstanceSpec instance) => Path.Combine(book.InstancesOn(instance.Host), instance.Name);

    internal Instance Require(RunCall call, InstanceSpec instance)
    {
        var folder = FolderOf(instance);
        var there = Instance.Find(folder) ?? throw new DriverException(DriverProblem.Refused, $"there is no instance {instance.Name} on {instance.Host}");
        if (there.Now.Owner != instance.Owner)
        {
            throw new DriverException(DriverProblem.Refused, $"{instance.Name} on {instance.Host} is an instance of another run");
        }

        Fences.Hear(Path.Combine(folder, "fence"), call);
        return there;
    }

    /// <summary>Waits until its recovery stands still; gives the position it has replayed up to.</summary>
    private static async Task<Lsn> PausedAsync(Instance there, Action<Lsn> replayed, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(Look);
        while (true)
        {
            await using var connection = await there.OpenAsync(null, cancel);
            try
            {
                while (true)
                {
                    var position = Lsn.Parse(await connection.AskAsync<string>("select coalesce(pg_last_wal_replay_lsn(), '0/0')::text", cancel));
                    if (await connection.AskAsync<string>("select pg_get_wal_replay_pause_state()", cancel) == "paused")
                    {
                        return Lsn.Parse(await connection.AskAsync<string>("select pg_last_wal_replay_lsn()::text", cancel));
                    }

                    replayed(position);
                    await timer.WaitForNextTickAsync(cancel);
                }
            }
            catch (NpgsqlException)
            {
                // Its engine ends a session now and then while it replays; where it ended itself, the next attempt says so.
            }

            await timer.WaitForNextTickAsync(cancel);
        }
    }
}
