using System.Diagnostics;
using System.Globalization;
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
internal sealed class PostgreSqlRestoreDriver(IClusterBook book) : IRestoreDriver
{
    private const double QuerySeconds = 60;

    /// <summary>Commits of clients that commit at once may stand in the log in another order than their clocks say, by less than this.</summary>
    private static readonly Duration Disorder = Duration.FromSeconds(5);
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

        DumpNote note;
        try
        {
            note = await DumpNote.ReadAsync(folder, cancel);
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
            read = await new PackedBackup(folder, PostgreSqlBackupDriver.SegmentsOf(folder)).ReadAsync(there.Data, cancel);
        }
        catch (Exception e) when (e is InvalidDataException or LogBrokenException or FileNotFoundException)
        {
            throw new DriverException(DriverProblem.CopyDamaged, $"{copy.Set} in {copy.Store} is damaged: {e.Message}", copy);
        }
        catch (IOException e)
        {
            throw e.Message.Contains("No space", StringComparison.Ordinal) ? new DriverException(DriverProblem.NoRoom, $"{instance.Host} is full: {e.Message}") : new DriverException(DriverProblem.CopyUnreachable, e.Message, copy);
        }

        await there.KeepAsync(there.Now with { Restored = copy.Set.Value, StoppedAt = null, Reached = null, Begun = false, Promoted = false, Loaded = false, LastCommit = PostgreSqlBackupDriver.LastCommitIn(folder).ToUnixTimeTicks() }, cancel);
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

        var (next, last, timeline, trail) = await StopAsync(there, instance.Database, restored, logs, stop, segments, cancel);
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
        var (after, _, _, _) = await StopAsync(there, instance.Database, restored, logs, new LogStop(Instant.MinValue, position.Value), segments, cancel);
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
        await using var connection = await there.OpenAsync(null, cancel);
        var reached = Instants.Parse(there.Now.Reached ?? Instants.Write(Instant.MinValue));
        if (there.Now.Loaded)
        {
            return [.. await LoadedAsync(there, instance, connection, reached, wanted, wish, cancel), .. wish?.Query is { } asked ? [await AskAsync(there, cluster, asked, cancel)] : Array.Empty<CheckResult>()];
        }

        var (at, state) = (await connection.AskAsync<string>("select pg_last_wal_replay_lsn()::text", cancel), await connection.AskAsync<string>("select pg_get_wal_replay_pause_state()", cancel));
        List<CheckResult> results =
        [
            new("stands still", state == "paused", $"its recovery is {state} at {at}; look with: psql -h {there.Socket} -p {there.Now.Port} -U {connection.UserName} {cluster.SignInTo}"),
            there.Now.StopBefore is { } before
                ? new("stands just before", Lsn.Parse(at).Value <= before, $"has replayed up to {at}; {new Lsn(before)} and all behind it must not be in it")
                : new("reaches what was promised", reached.ToUnixTimeMilliseconds() >= wanted.ToUnixTimeMilliseconds(), $"holds all up to {Instants.Write(reached)}; promised was {Instants.Write(wanted)}"),
        ];
        results.AddRange((await Structure.CheckAsync(connection, name => there.OpenAsync(name, cancel), cancel, wish?.WithinSeconds)).Found);
        results.AddRange(await Trail.CheckAsync(connection, name => there.OpenAsync(name, cancel), there.Now.TrailBefore, cancel));
        if (wish?.Query is { } query)
        {
            results.Add(await AskAsync(there, cluster, query, cancel));
        }

        return results;
    }

    /// <summary>Checks what was loaded from an export.</summary>
    private async Task<IReadOnlyList<CheckResult>> LoadedAsync(Instance there, InstanceSpec instance, NpgsqlConnection connection, Instant reached, Instant wanted, CheckWish? wish, CancellationToken cancel)
    {
        var note = book.Set(instance.Database, new(there.Now.Restored ?? ""))?.Copies.Where(c => c.RemovedAt is null).Select(c => DumpNote.In(book.Store(c.Store).Export(instance.Database.Value, there.Now.Restored!))).FirstOrDefault(n => n is not null)
            ?? throw new DriverException(DriverProblem.Refused, $"what was dumped as {there.Now.Restored} is not known any more");
        return
        [
            new("reaches what was promised", reached.ToUnixTimeMilliseconds() >= wanted.ToUnixTimeMilliseconds(), $"holds all up to {Instants.Write(reached)}; promised was {Instants.Write(wanted)}"),
            .. await Dump.CheckAsync(there, note, cancel),
            .. (await Structure.CheckAsync(connection, name => there.OpenAsync(name, cancel), cancel, wish?.WithinSeconds)).Found,
            .. await Trail.CheckAsync(connection, name => there.OpenAsync(name, cancel), null, cancel),
        ];
    }

    /// <inheritdoc/>
    /// <remarks>It stands still, takes no writes and listens on a socket of its own: it is looked at through the product. Hosts are let in by rules that this driver does not know.</remarks>
    public Task<IReadOnlyList<CheckResult>> LetInAsync(RunCall call, InstanceSpec instance, IReadOnlyList<Id<Host>> hosts, bool readOnly, CancellationToken cancel)
    {
        var there = Require(call, instance);
        return hosts.Count == 0 && readOnly
            ? Task.FromResult<IReadOnlyList<CheckResult>>([new("for reading", true, $"on the socket in {there.Socket} alone")])
            : throw new DriverException(DriverProblem.Refused, "this driver opens a copy for reading through the product; other hosts it lets in by no rule of its own");
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
            return await ReadAsync(connection, query, most, cancel);
        }
        catch (Exception e) when (IsNoAnswer(e))
        {
            throw new DriverException(DriverProblem.Refused, WhyNoAnswer(e));
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
    public async Task DiscardAsync(RunCall call, InstanceSpec instance, CancellationToken cancel)
    {
        var folder = FolderOf(instance);
        if (Instance.Find(folder) is { } there)
        {
            if (there.Now.Owner == instance.Owner)
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

    /// <summary>Finds where to stop in the log that was brought: the first commit that must not be in it, or, where there is none, the last whole record.</summary>
    private async Task<(Commit? Next, Lsn Last, int Timeline, long? Trail)> StopAsync(
        Instance there, Id<Database> database, BackupSet restored, IReadOnlyList<SetCopy> logs, LogStop? stop, Segments segments, CancellationToken cancel)
    {
        BackupSet[] sets = [.. logs.Select(l => book.Set(database, l.Set)!)];

        // Whoever wants all that was received gets all of it: what a set covers to is told in whole milliseconds, and its last commit may lie within the one that has begun.
        stop = stop is { Before: null, At: var asked } && asked >= sets[^1].CoversTo ? null : stop;
        var first = stop switch
        {
            null => sets.Length - 1,
            { Before: { } before } => Math.Max(0, Array.FindLastIndex(sets, s => s.FromPosition <= before)),
            { At: var t } => Math.Max(0, Array.FindLastIndex(sets, s => s.CoversTo < t - Disorder)),
        };
        Commit? next = null;
        long? trail = null;
        var walk = new LogWalk(segments, c =>
        {
            if (c.Position.Value < restored.ToPosition || next is not null)
            {
                return;
            }

            if (stop is { } s && (s.Before is { } before ? c.Position.Value >= before : c.At > s.At))
            {
                next = c;
            }
            else if (Trail.NumberOf(c.Name) is { } number)
            {
                trail = number;
            }
        });
        (string Name, byte[] Content) file = ("", []);
        foreach (var (set, start) in sets.Skip(first).SelectMany(s => segments.Over(new(s.FromPosition!.Value), new(s.ToPosition)).Select(at => (s, at))).TakeWhile(_ => next is null))
        {
            if (segments.NameOf(set.Branch, start) is var name && name != file.Name)
            {
                file = (name, await File.ReadAllBytesAsync(Path.Combine(there.Log, name), cancel));
            }

            try
            {
                walk.Take(set, start, file.Content);
            }
            catch (LogBrokenException e)
            {
                throw new DriverException(DriverProblem.CopyDamaged, $"{set.Id}: {e.Message}", logs.First(l => l.Set == set.Id));
            }
        }

        return (next, walk.Last?.Position ?? new Lsn(restored.ToPosition), sets[^1].Branch, trail);
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

    private static async Task<CheckResult> AskAsync(Instance there, ClusterSpec cluster, string query, CancellationToken cancel)
    {
        var name = $"query \"{InputBounds.Quote(query)}\"";
        try
        {
            await using var connection = await there.OpenAsync(cluster.SignInTo, cancel);
            var answer = await ReadAsync(connection, query, 1, cancel);
            return answer.Rows is [var first, ..]
                ? new CheckResult(name, first[0] is not "False", $"answers {string.Join(", ", answer.Columns.Zip(first).Take(8).Select(v => $"{v.First}: {(v.Second is null ? "null" : InputBounds.Quote(v.Second))}"))}")
                : new CheckResult(name, true, "answers no rows");
        }
        catch (Exception e) when (e is NpgsqlException or TimeoutException)
        {
            return new CheckResult(name, false, e is PostgresException p ? p.MessageText : e.Message);
        }
    }

    /// <summary>Whether a query was not answered because of itself.</summary>
    internal static bool IsNoAnswer(Exception e) => e is NpgsqlException or TimeoutException or InvalidCastException;

    /// <summary>Why, for people.</summary>
    internal static string WhyNoAnswer(Exception e) => e switch { PostgresException p => p.MessageText, InvalidCastException => $"{e.Message} Cast it to text.", _ => e.Message };

    /// <summary>Asks one statement, in a transaction that only reads, with the rights to read data and no others: nothing of the host is within its reach.</summary>
    internal static async Task<QueryRows> ReadAsync(NpgsqlConnection connection, string query, int most, CancellationToken cancel)
    {
        await using (var first = new NpgsqlCommand("begin read only; set local role pg_read_all_data", connection))
        {
            await first.ExecuteNonQueryAsync(cancel);
        }

        // A batch is sent as it stands: a second statement behind a semicolon is refused by the server.
        await using var batch = new NpgsqlBatch(connection) { Timeout = (int)QuerySeconds };
        batch.BatchCommands.Add(new NpgsqlBatchCommand(query));
        await using var reader = await batch.ExecuteReaderAsync(cancel);
        var (columns, rows) = (Enumerable.Range(0, reader.FieldCount).Select(reader.GetName).ToArray(), new List<IReadOnlyList<string?>>());
        while (await reader.ReadAsync(cancel))
        {
            if (rows.Count == most)
            {
                batch.Cancel();
                return new(columns, rows, true);
            }

            rows.Add([.. Enumerable.Range(0, reader.FieldCount).Select(i => reader.IsDBNull(i) ? null : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture))]);
        }

        return new(columns, rows, false);
    }
}
