using System.Diagnostics;
using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Has a cluster live on another host of this server's, in what was loaded there from a dump of it (ways, section 2), with the settings and sign-in rules its engine had. It goes on in a timeline of its own whose log begins behind
/// all that the old engine can have written: no log from before leads on, and nothing before is taken for its own. The old engine is stopped, and its data folder stays.
/// </summary>
internal sealed class NewHome(IClusterBook book, IClock clock)
{
    /// <summary>What an engine says of where it lies and listens, or of one recovery alone: its own, wherever its settings come from.</summary>
    private static readonly string[] NotTaken =
    [
        "config_file", "data_directory", "hba_file", "ident_file", "external_pid_file", "port", "listen_addresses", "unix_socket_directories", "restore_command", "recovery_min_apply_delay", "primary_conninfo", "primary_slot_name",
    ];

    private static readonly string[] CertificateFiles = ["ssl_cert_file", "ssl_key_file", "ssl_ca_file", "ssl_crl_file", "ssl_dh_params_file"];

    private readonly OwnStandbys own = new(book, clock);
    private readonly InPlace inPlace = new(book, clock);

    /// <summary>Tries whether a cluster could be moved so, and changes nothing.</summary>
    public async Task<IReadOnlyList<CheckResult>> TryAsync(InstanceSpec instance, CancellationToken cancel)
    {
        var cluster = book.Cluster(instance.Database);
        var results = new List<CheckResult>();
        try
        {
            var engine = own.Primary(cluster) is { } mine ? mine.Data : (await LocalEngine.FindAsync(cluster, cancel)).Data;
            results.Add(new("engine", true, $"its engine in {engine} can be stopped from here"));
        }
        catch (DriverException e)
        {
            return [new("engine", false, e.Message)];
        }

        await using var connection = await Connections.OpenAsync(cluster, cancel);
        var (spaces, prepared, slots, subscriptions) = (await connection.RowsAsync(
            """
            select coalesce((select string_agg(spcname, ', ' order by spcname) from pg_tablespace where spcname not in ('pg_default', 'pg_global')), ''),
              (select count(*) from pg_prepared_xacts),
              coalesce((select string_agg(slot_name, ', ' order by slot_name) from pg_replication_slots where slot_name <> $1), ''),
              coalesce((select string_agg(subname, ', ' order by subname) from pg_subscription), '')
            """,
            r => (r.GetString(0), r.GetInt64(1), r.GetString(2), r.GetString(3)),
            cancel,
            cluster.Slot))[0];
        results.Add(new("tablespaces", spaces.Length == 0, spaces.Length == 0 ? "all of it lies in its data folder" : $"tablespaces {spaces} lie elsewhere, where the other engine cannot have its own"));
        results.Add(new("prepared transactions", prepared == 0, prepared == 0 ? "no prepared transaction is open" : $"{prepared} are prepared and not ended: a dump holds none of what they did"));
        results.Add(await OwnStandbys.RoomAsync(connection, book.InstancesOn(instance.Host), cancel));
        if (slots.Length > 0)
        {
            results.Add(new("slots", true, $"slots do not come along: {slots}"));
        }

        if (subscriptions.Length > 0)
        {
            results.Add(new("subscriptions", true, $"come along switched off: {subscriptions}"));
        }

        return results;
    }

    /// <summary>Has it live there.</summary>
    /// <param name="call">Who calls.</param>
    /// <param name="instance">What was loaded, and where.</param>
    /// <param name="there">The same as it lies there.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">It cannot, and says why; the old engine is as it was then, and everybody is kept out of it.</exception>
    public async Task<Promotion> PlaceAsync(RunCall call, InstanceSpec instance, Instance there, CancellationToken cancel)
    {
        var (cluster, began) = (book.Cluster(instance.Database), Stopwatch.GetTimestamp());
        if (instance.Host == book.HostOf(instance.Database))
        {
            throw new DriverException(DriverProblem.Refused, InPlace.WhyNoExport);
        }

        if (cluster.Placed is not { } before || before.Run != call.Run)
        {
            if (await inPlace.HearAsync(call, cluster, cancel) is not { } old)
            {
                throw new DriverException(DriverProblem.Refused, $"nobody is kept out of {instance.Database}");
            }

            await LeaveAsync(cluster, old, there, instance, cancel);
            await BeginAsync(cluster, there, there.Now.Place!, cancel);
            before = new Placed(call.Run, there.Data, there.Now.Place! with { Seconds = Stopwatch.GetElapsedTime(began).TotalSeconds });
            await book.MovedAsync(instance.Database, instance.Name, there.Now.Port, before, cancel);
        }

        // From here on it lives there, whoever is asked again. Where somebody starts the old engine all the same, it takes no writes.
        if (Directory.Exists(there.Now.OldData))
        {
            await Tools.RunAsync("touch", [Path.Combine(there.Now.OldData, "standby.signal")], cancel, asEngine: true);
        }

        await there.ReleaseAsync(cancel);
        await book.SendClientsAsync(instance.Database, Instance.Address, there.Now.Port, cancel);
        return before.Came.ToPromotion();
    }

    /// <summary>Takes over how the old engine is set, says which branch begins, and stops it: once, however often it is asked.</summary>
    private async Task LeaveAsync(ClusterSpec cluster, KeptOut old, Instance there, InstanceSpec instance, CancellationToken cancel)
    {
        var engine = new LocalEngine(old.Data);
        if (engine.Runs ? !await InPlace.RunsAsideAsync(old, cancel) : there.Now.Place is null)
        {
            throw new DriverException(DriverProblem.Refused, $"the engine in {old.Data} was stopped or started by somebody since it was dumped: call this off, and begin again");
        }

        if (there.Now.Place is null)
        {
            await using var connection = await Connections.OpenAsync(await Connections.AsFirstAsync(cluster, cancel), cancel);
            await TakeSettingsAsync(connection, old, there, cancel);
            var (timeline, segments) = (await TimelineHistory.NowAsync(connection, cancel), await PostgreSqlBackupDriver.SegmentsAsync(connection, cancel));
            var flushed = Lsn.Parse(await connection.AskAsync<string>("select pg_current_wal_flush_lsn()::text", cancel));

            // It writes a little more while it stops.
            var fork = new Lsn(segments.StartOf(flushed).Value + (2L * segments.Bytes));
            var known = book.ClustersOn(book.HostOf(instance.Database)).Where(c => c.Database.Id == instance.Database).SelectMany(c => c.Database.Branches).Select(b => b.Id);
            var branch = new Branch(known.Append(timeline).Max() + 1, timeline, fork.Value, Instants.Parse(there.Now.Reached!), clock.GetCurrentInstant());
            var history = Path.Combine(old.Data, "pg_wal", Segments.HistoryOf(timeline));
            var before = timeline > 1 ? await Tools.RunAsync("cat", [history], cancel, asEngine: true) : "";
            await there.KeepHistoryAsync(branch.Id, $"{before.TrimEnd('\n')}{(before.Length > 0 ? "\n" : "")}{timeline}\t{fork}\tmoved by dump and load\n", cancel);
            await there.KeepAsync(
                there.Now with
                {
                    Place = KeptPromotion.Of(new Promotion(0, branch, instance.Host, 0, 0, [.. cluster.Standbys.Select(s => new Promotion.LeftBehind(new(s.Replica), "it is a copy of the engine that was left: set it up anew"))])),
                    Segments = segments,
                    OldData = old.Data,
                },
                cancel);
        }

        await engine.StopAsync(cancel);
    }

    /// <summary>Has what was loaded go on in its own timeline, and keep its log for us from the beginning.</summary>
    private async Task BeginAsync(ClusterSpec cluster, Instance there, KeptPromotion place, CancellationToken cancel)
    {
        await there.GoOnInAsync(place.Id, new Lsn(place.ForkPosition), cancel);
        await using var connection = await there.OpenAsync(null, cancel);
        if (await TimelineHistory.NowAsync(connection, cancel) is var goes && goes != place.Id)
        {
            throw new DriverException(DriverProblem.Refused, $"what was loaded goes on in timeline {goes} and not in {place.Id}");
        }

        await LogReceiver.MakeSlotAsync(connection, cluster.Slot, cancel);
        var system = await connection.AskAsync<long>("select system_identifier from pg_control_system()", cancel);
        await book.Store(new(cluster.LogStore)).LogGoesOnAsync(cluster.Database, system.ToString(CultureInfo.InvariantCulture), cancel);
    }

    private static async Task TakeSettingsAsync(NpgsqlConnection connection, KeptOut old, Instance there, CancellationToken cancel)
    {
        var settings = (await connection.RowsAsync(
            "select name, setting from pg_settings where source in ('configuration file', 'command line') and context <> 'internal' and name <> all($1) and name !~ '^recovery_target' order by name",
            r => (Name: r.GetString(0), Value: r.GetString(1)),
            cancel,
            (object)NotTaken)).ToArray();

        // What it runs by now is told it on the command line; its rules are those that its files name.
        var (config, rules, idents) = (await connection.RowsAsync(
            """
            select current_setting('config_file'), (select setting from pg_file_settings where name = 'hba_file' order by seqno desc limit 1), (select setting from pg_file_settings where name = 'ident_file' order by seqno desc limit 1)
            """,
            r => (r.GetString(0), r.IsDBNull(1) ? null : r.GetString(1), r.IsDBNull(2) ? null : r.GetString(2)),
            cancel))[0];
        await there.TakeSettingsAsync(
            settings,
            await ReadAsync(rules ?? Beside(config, "pg_hba.conf")),
            await ReadAsync(idents ?? Beside(config, "pg_ident.conf")),
            old.Data,
            settings.Where(s => CertificateFiles.Contains(s.Name) && s.Value.Length > 0 && !Path.IsPathRooted(s.Value)).Select(s => s.Value),
            cancel);

        Task<string> ReadAsync(string file) => Tools.RunAsync("cat", [Path.IsPathRooted(file) ? file : Path.Combine(old.Data, file)], cancel, asEngine: true);
    }

    private static string Beside(string file, string name) => Path.Combine(Path.GetDirectoryName(file)!, name);
}
