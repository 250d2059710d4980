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

    /// <summary>What was dumped.</summary>
    /// <param name="At">The instant of the first snapshot: all that was committed before is in it.</param>
    /// <param name="Position">The position of the log then.</param>
    /// <param name="FirstRole">The role that the cluster was made with.</param>
    /// <param name="Locale">Encoding, collation and classes of letters of the cluster.</param>
    /// <param name="Databases">The databases.</param>
    public sealed record Taken(Instant At, long Position, int Timeline, string FirstRole, (string Encoding, string Collate, string CType) Locale, IReadOnlyList<DumpNote.One> Databases);

    private static string Jobs => Math.Clamp(Environment.ProcessorCount, 1, MostJobs).ToString(CultureInfo.InvariantCulture);

    /// <summary>Dumps a cluster into an empty folder.</summary>
    /// <exception cref="DriverException">It cannot be had whole; says what the tool, or the cluster, said.</exception>
    public static async Task<Taken> TakeAsync(ClusterSpec cluster, string folder, Compression compression, CancellationToken cancel)
    {
        var held = new List<(NpgsqlConnection Connection, string Snapshot, DumpNote.One One)>();
        try
        {
            await using var first = await Connections.OpenAsync(cluster, cancel);
            var names = await first.RowsAsync("select datname::text, datallowconn and has_database_privilege(datname, 'connect') from pg_database where not datistemplate order by 1", r => (Name: r.GetString(0), Mine: r.GetBoolean(1)), cancel);
            if (names.FirstOrDefault(n => !n.Mine).Name is { } closed)
            {
                throw new DriverException(DriverProblem.Refused, $"{cluster.User} may not connect to database {closed}: an export without it would not be the cluster");
            }

            var (super, role) = (await first.AskAsync<bool>("select rolsuper from pg_roles where rolname = current_user", cancel), await first.AskAsync<string>("select rolname::text from pg_roles where oid = 10", cancel));
            var locale = (await first.RowsAsync("select pg_encoding_to_char(encoding)::text, datcollate::text, datctype::text from pg_database where datname = 'template1'", r => (r.GetString(0), r.GetString(1), r.GetString(2)), cancel))[0];
            var timeline = await first.AskAsync<int>("select timeline_id from pg_control_checkpoint()", cancel);
            var (at, position) = (await first.NowAsync(cancel), Log.Lsn.Parse(await first.AskAsync<string>("select pg_current_wal_lsn()::text", cancel)).Value);
            foreach (var (name, _) in names)
            {
                var connection = await Connections.OpenAsync(cluster, cancel, name);
                held.Add((connection, "", new(name, "", 0, null)));
                await using (var begin = new NpgsqlCommand("begin transaction isolation level repeatable read read only; set local idle_in_transaction_session_timeout = 0", connection))
                {
                    await begin.ExecuteNonQueryAsync(cancel);
                }

                held[^1] = (connection, await connection.AskAsync<string>("select pg_export_snapshot()", cancel), held[^1].One);
            }

            for (var i = 0; i < held.Count; i++)
            {
                var (connection, snapshot, one) = held[i];
                var trail = await connection.AskAsync<bool>("select to_regclass('imbrek_trail') is not null", cancel) ? await connection.AskAsync<long>("select coalesce(max(n), 0) from imbrek_trail", cancel) : (long?)null;
                held[i] = (connection, snapshot, one with { Folder = $"database-{i + 1}", Relations = await connection.AskAsync<long>(OfItsOwn, cancel), Trail = trail });
            }

            await RunAsync(cluster, "pg_dumpall", ["--globals-only", "--file", Path.Combine(folder, DumpNote.Roles), .. super ? Array.Empty<string>() : ["--no-role-passwords"]], cluster.SignInTo, "--database", cancel);
            await File.WriteAllLinesAsync(
                Path.Combine(folder, DumpNote.Settings),
                await first.RowsAsync("select format('%s = %L', name, setting) from pg_settings where source in ('configuration file', 'command line') and context <> 'internal' order by name", r => r.GetString(0), cancel),
                cancel);
            foreach (var (_, snapshot, one) in held)
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

            return new(at, position, timeline, role, locale, [.. held.Select(h => h.One)]);
        }
        catch (NpgsqlException e)
        {
            throw Connections.Told(cluster, e, cancel);
        }
        finally
        {
            foreach (var (connection, _, _) in held)
            {
                await connection.DisposeAsync();
            }
        }
    }

    /// <summary>Loads an export into an instance that was made for it, whatever that held.</summary>
    /// <exception cref="DriverException">A tool cannot; says what it said.</exception>
    public static async Task LoadAsync(Instance there, string folder, DumpNote note, CancellationToken cancel)
    {
        await there.EmptyAsync(cancel);
        await there.BeginAsync(note.FirstRole, note.Encoding, note.Collate, note.CType, cancel);
        string firstRole, roles = Path.Combine(there.Socket, DumpNote.Roles);
        await using (var connection = await there.OpenAsync(null, cancel))
        {
            firstRole = await connection.AskAsync<string>("select quote_ident($1)", cancel, note.FirstRole);
        }

        // The first role is there already, by the making of the cluster.
        await File.WriteAllLinesAsync(roles, (await File.ReadAllLinesAsync(Path.Combine(folder, DumpNote.Roles), cancel)).Where(l => l != $"CREATE ROLE {firstRole};"), cancel);
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
    public static async Task<IReadOnlyList<CheckResult>> CheckAsync(Instance there, DumpNote note, CancellationToken cancel)
    {
        var results = new List<CheckResult>();
        foreach (var one in note.Databases)
        {
            await using var inside = await there.OpenAsync(one.Name, cancel);
            var relations = await inside.AskAsync<long>(OfItsOwn, cancel);
            var newest = one.Trail is null ? (long?)null : await inside.AskAsync<long>("select coalesce(max(n), 0) from imbrek_trail", cancel);
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

    private static Task<string> AtAsync(Instance there, DumpNote note, string tool, IReadOnlyList<string> words, string? database, CancellationToken cancel) => Tools.RunAsync(
        Path.Combine(Tools.FolderOf("15"), tool),
        ["--host", there.Socket, "--port", there.Now.Port.ToString(CultureInfo.InvariantCulture), "--username", note.FirstRole, "--no-password", .. database is null ? Array.Empty<string>() : ["--dbname", database], .. words],
        cancel);
}
