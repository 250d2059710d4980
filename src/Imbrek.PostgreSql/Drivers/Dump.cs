using System.Globalization;
using System.Text;
using Imbrek.Core.Drivers;
using Imbrek.Core.Planning;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Store;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Exports of a cluster by the engine's own tools: each of its databases dumped in parallel from a snapshot, all snapshots made within moments of each other, with the roles and settings of the cluster; and loaded again, in
/// parallel, into a cluster that is made for it. It moves between versions and machines, and checks every row on the way; indexes are built anew.
/// </summary>
internal static class Dump
{
    private const int MostJobs = 8;

    private const string OfItsOwn = "select count(*) from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname not in ('pg_catalog', 'information_schema') and n.nspname !~ '^pg_(toast|temp)' and c.relpersistence <> 't'";

    private const string Newest = "select coalesce(max(n), 0) from imbrek_trail";

    /// <summary>What was dumped.</summary>
    /// <param name="At">The instant of the first snapshot: all that was committed before is in it.</param>
    /// <param name="Position">The position of the log then.</param>
    /// <param name="Timeline">The timeline it was on.</param>
    /// <param name="Cluster">How the cluster was made.</param>
    /// <param name="Databases">The databases.</param>
    public sealed record Taken(Instant At, long Position, int Timeline, MadeWith Cluster, IReadOnlyList<ExportNote.One> Databases);

    private static string Jobs => Math.Clamp(Environment.ProcessorCount, 1, MostJobs).ToString(CultureInfo.InvariantCulture);

    /// <summary>Dumps a cluster into an empty folder.</summary>
    /// <exception cref="DriverException">It cannot be had whole; says what the tool, or the cluster, said.</exception>
    public static async Task<Taken> TakeAsync(ClusterSpec cluster, string folder, Compression compression, CancellationToken cancel)
    {
        var inside = new List<NpgsqlConnection>();
        try
        {
            await using var first = await Connections.OpenAsync(cluster, cancel);
            var names = await first.RowsAsync("select datname::text, datallowconn and has_database_privilege(datname, 'connect') from pg_database where not datistemplate order by 1", r => (Name: r.GetString(0), Mine: r.GetBoolean(1)), cancel);
            if (names.FirstOrDefault(n => !n.Mine).Name is { } closed)
            {
                throw new DriverException(DriverProblem.Refused, $"{cluster.User} may not connect to database {closed}: an export without it would not be the cluster");
            }

            var super = await first.AskAsync<bool>("select rolsuper from pg_roles where rolname = current_user", cancel);
            var made = (await first.RowsAsync(
                "select (select rolname from pg_roles where oid = 10)::text, pg_encoding_to_char(encoding)::text, datcollate::text, datctype::text from pg_database where datname = 'template1'",
                r => new MadeWith(r.GetString(0), r.GetString(1), r.GetString(2), r.GetString(3)),
                cancel))[0];
            var timeline = await first.AskAsync<int>("select timeline_id from pg_control_checkpoint()", cancel);
            var (at, position) = (await first.NowAsync(cancel), Log.Lsn.Parse(await first.AskAsync<string>("select pg_current_wal_lsn()::text", cancel)).Value);

            // All snapshots before anything else is asked: they are to be of one moment, as nearly as that can be.
            var snapshots = new List<string>();
            foreach (var (name, _) in names)
            {
                inside.Add(await Connections.OpenAsync(cluster, cancel, name));
                await using var begin = new NpgsqlCommand("begin transaction isolation level repeatable read read only; set local idle_in_transaction_session_timeout = 0", inside[^1]);
                await begin.ExecuteNonQueryAsync(cancel);
                snapshots.Add(await inside[^1].AskAsync<string>("select pg_export_snapshot()", cancel));
            }

            var databases = new List<ExportNote.One>();
            foreach (var connection in inside)
            {
                var trail = await connection.AskAsync<bool>("select to_regclass('imbrek_trail') is not null", cancel) ? await connection.AskAsync<long>(Newest, cancel) : (long?)null;
                databases.Add(new(names[databases.Count].Name, $"database-{databases.Count + 1}", await connection.AskAsync<long>(OfItsOwn, cancel), trail));
            }

            await RunAsync(cluster, "pg_dumpall", ["--globals-only", "--file", Path.Combine(folder, ExportNote.Roles), .. super ? Array.Empty<string>() : ["--no-role-passwords"]], cluster.SignInTo, "--database", cancel);
            await File.WriteAllLinesAsync(
                Path.Combine(folder, ExportNote.Settings),
                await first.RowsAsync("select format('%s = %L', name, setting) from pg_settings where source in ('configuration file', 'command line') and context <> 'internal' order by name", r => r.GetString(0), cancel),
                cancel);
            foreach (var (one, snapshot) in databases.Zip(snapshots))
            {
                await RunAsync(
                    cluster,
                    "pg_dump",
                    [
                        "--format", "directory", "--jobs", Jobs, "--snapshot", snapshot, "--compress", compression switch { Compression.Off => "0", Compression.Light => "1", _ => "9" }, "--file", Path.Combine(folder, one.Folder),
                    ],
                    one.Name,
                    "--dbname",
                    cancel);
            }

            return new(at, position, timeline, made, databases);
        }
        catch (NpgsqlException e)
        {
            throw Connections.Told(cluster, e, cancel);
        }
        finally
        {
            foreach (var connection in inside)
            {
                await connection.DisposeAsync();
            }
        }
    }

    /// <summary>Loads an export into an instance that was made for it, whatever that held.</summary>
    /// <exception cref="DriverException">A tool cannot; says what it said.</exception>
    public static async Task LoadAsync(Instance there, string folder, ExportNote note, CancellationToken cancel)
    {
        await there.EmptyAsync(cancel);
        await there.MakeClusterAsync(note.Cluster, cancel);
        string firstRole, roles = Path.Combine(there.Socket, ExportNote.Roles);
        await using (var connection = await there.OpenAsync(null, cancel))
        {
            firstRole = await connection.AskAsync<string>("select quote_ident($1)", cancel, note.Cluster.Role);
        }

        // The first role is there already, by the making of the cluster.
        await File.WriteAllLinesAsync(roles, (await File.ReadAllLinesAsync(Path.Combine(folder, ExportNote.Roles), cancel)).Where(l => l != $"CREATE ROLE {firstRole};"), cancel);
        await AtAsync(there, note, "psql", ["--no-psqlrc", "--quiet", "--set", "ON_ERROR_STOP=1", "--output", "/dev/null", "--file", roles], "template1", cancel);
        File.Delete(roles);
        foreach (var one in note.Databases)
        {
            await AtAsync(there, note, "pg_restore", ["--jobs", Jobs, "--exit-on-error", "--clean", "--if-exists", "--create", Path.Combine(folder, one.Folder)], "template1", cancel);
        }

        // What its engine knows of what is in its tables is in no dump.
        await AtAsync(there, note, "vacuumdb", ["--all", "--analyze-only", "--quiet", "--jobs", Jobs], null, cancel);
    }

    /// <summary>Whether what was loaded is what was dumped.</summary>
    public static async Task<IReadOnlyList<CheckResult>> CheckAsync(Instance there, ExportNote note, CancellationToken cancel)
    {
        var results = new List<CheckResult>();
        foreach (var one in note.Databases)
        {
            await using var inside = await there.OpenAsync(one.Name, cancel);
            var relations = await inside.AskAsync<long>(OfItsOwn, cancel);
            var newest = one.Trail is null ? (long?)null : await inside.AskAsync<long>(Newest, cancel);
            results.Add(new(
                $"database {one.Name}",
                relations == one.Relations && newest == one.Trail,
                relations != one.Relations ? $"{relations} tables, indexes, views and sequences; {one.Relations} were dumped"
                : newest != one.Trail ? $"its trail ends with commit {newest}; dumped was up to {one.Trail}"
                : $"{relations} tables, indexes, views and sequences, as dumped{(newest is null ? "" : $"; its trail ends with commit {newest}, as dumped")}"));
        }

        return results;
    }

    private static Task<string> RunAsync(ClusterSpec cluster, string tool, IReadOnlyList<string> words, string database, string by, CancellationToken cancel) => Tools.RunAsync(
        Path.Combine(Tools.FolderOf("15"), tool),
        ["--host", cluster.Address, "--port", cluster.Port.ToString(CultureInfo.InvariantCulture), "--username", cluster.User, "--no-password", by, $"dbname={Instance.Word(database)}", .. words],
        cancel,
        Credentials.ForDriver(cluster.Credential));

    private static Task<string> AtAsync(Instance there, ExportNote note, string tool, IReadOnlyList<string> words, string? database, CancellationToken cancel) => Tools.RunAsync(
        Path.Combine(Tools.FolderOf("15"), tool),
        ["--host", there.Socket, "--port", there.Now.Port.ToString(CultureInfo.InvariantCulture), "--username", note.Cluster.Role, "--no-password", .. database is null ? Array.Empty<string>() : ["--dbname", database], .. words],
        cancel);
}
