using System.Diagnostics;
using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Log;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Looks at a cluster through one connection.</summary>
internal sealed class PostgreSqlDiscovery : IDiscoverDriver<ClusterSpec>
{
    private const int MostOfAGroup = 50;
    private static readonly TimeSpan Measured = TimeSpan.FromSeconds(1);

    private static readonly string[] Settings =
        ["wal_level", "archive_mode", "archive_command", "data_checksums", "full_page_writes", "fsync", "synchronous_commit", "max_wal_senders", "max_replication_slots", "max_slot_wal_keep_size", "wal_segment_size", "wal_keep_size", "data_directory", "shared_preload_libraries", "wal_log_hints", "server_version"];

    /// <inheritdoc/>
    public async Task<Discovered> DiscoverAsync(ClusterSpec address, CancellationToken cancel)
    {
        await using var c = await Connections.OpenAsync(address, cancel);
        try
        {
            return await LookAsync(c, cancel);
        }
        catch (NpgsqlException e)
        {
            throw Connections.Told(address, e, cancel);
        }
    }

    private static async Task<Discovered> LookAsync(NpgsqlConnection c, CancellationToken cancel)
    {
        var (facts, lacks, unseen) = (new List<Discovered.Fact>(), new List<string>(), new List<string>());
        var version = int.Parse(await c.AskAsync<string>("show server_version_num", cancel), CultureInfo.InvariantCulture) / 10000;
        var replica = await c.AskAsync<bool>("select pg_is_in_recovery()", cancel);
        var settings = (await c.RowsAsync($"select name, setting from pg_settings where name in ('{string.Join("','", Settings)}')", r => (Name: r.GetString(0), Value: r.IsDBNull(1) ? "" : r.GetString(1)), cancel)).ToDictionary(s => s.Name, s => s.Value);
        var (super, replicates, monitors) = (await c.RowsAsync(
            "select rolsuper, rolreplication, rolsuper or pg_has_role(rolname, 'pg_monitor', 'member') from pg_roles where rolname = current_user", r => (r.GetBoolean(0), r.GetBoolean(1), r.GetBoolean(2)), cancel))[0];

        if (version != 15)
        {
            lacks.Add($"its version is {version}; this family acts on 15 alone");
        }

        if (replica)
        {
            lacks.Add("it is a replica: add the cluster it follows");
        }

        if (!super && !replicates)
        {
            lacks.Add("the role may not receive log: alter role … replication");
        }

        Need(settings.GetValueOrDefault("wal_level") is "replica" or "logical", $"wal_level is {settings.GetValueOrDefault("wal_level")}: it must be replica or logical");
        Need(settings.GetValueOrDefault("fsync") != "off", "fsync is off: what it says it committed may be lost with its machine's power");
        Need(settings.GetValueOrDefault("full_page_writes") != "off", "full_page_writes is off: a base backup may hold torn pages");
        var (senders, senderLimit) = (await c.AskAsync<long>("select count(*) from pg_stat_activity where backend_type = 'walsender'", cancel), Number("max_wal_senders"));
        Need(senderLimit - senders >= 3, $"{senders} of {senderLimit} senders of log are taken: a backup needs two and the log one (max_wal_senders)");
        var (slots, slotLimit) = (await c.AskAsync<long>("select count(*) from pg_replication_slots", cancel), Number("max_replication_slots"));
        Need(slotLimit - slots >= 1 || await c.AskAsync<bool>("select exists (select 1 from pg_replication_slots where slot_name like 'imbrek%')", cancel), $"all {slotLimit} slots are taken (max_replication_slots)");
        if (await c.AskAsync<bool>("select exists (select 1 from pg_tablespace where spcname not in ('pg_default', 'pg_global'))", cancel))
        {
            lacks.Add("it has tablespaces outside its data folder, which this version does not restore");
        }

        facts.AddRange(settings.OrderBy(s => s.Key, StringComparer.Ordinal).Select(s => new Discovered.Fact("settings", s.Key, s.Key == "archive_command" && s.Value.Length > 0 ? "(set)" : s.Value)));
        foreach (var hidden in Settings.Where(s => !settings.ContainsKey(s)))
        {
            unseen.Add($"setting {hidden}");
        }

        if (!monitors)
        {
            unseen.Add("what other roles do, and sizes of databases it may not enter: grant pg_monitor to …");
        }

        await GroupAsync("databases", "select d.datname, case when has_database_privilege(d.oid, 'connect') or pg_has_role(current_user, 'pg_read_all_stats', 'member') then pg_database_size(d.oid)::text || ' bytes, ' else '' end || pg_encoding_to_char(d.encoding) || ', ' || d.datcollate || coalesce(', collation ' || d.datcollversion, '') from pg_database d where not d.datistemplate order by 1");
        await GroupAsync("roles", "select rolname, concat_ws(', ', case when rolsuper then 'superuser' end, case when rolreplication then 'replication' end, case when rolcanlogin then 'signs in' end) from pg_roles where rolname not like 'pg\\_%' order by 1");
        await GroupAsync("extensions", "select extname, extversion from pg_extension order by 1");
        await GroupAsync("slots", "select slot_name, slot_type || case when active then ', active' else ', not active' end || coalesce(', keeps ' || pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn) || ' bytes', '') from pg_replication_slots order by 1");
        await GroupAsync("senders", "select coalesce(application_name, ''), coalesce(state, '') || coalesce(', ' || sync_state, '') from pg_stat_replication order by 1");
        var timeline = await c.AskAsync<int>("select timeline_id from pg_control_checkpoint()", cancel);
        facts.Add(new("log", "timeline", timeline.ToString(CultureInfo.InvariantCulture)));
        long size;
        try
        {
            size = await c.AskAsync<long>("select sum(pg_database_size(oid))::bigint from pg_database", cancel);
        }
        catch (PostgresException)
        {
            size = await c.AskAsync<long>("select sum(pg_database_size(oid))::bigint from pg_database where has_database_privilege(oid, 'connect')", cancel);
        }

        var position = replica ? "pg_last_wal_replay_lsn()" : "pg_current_wal_lsn()";
        var (first, began) = (Lsn.Parse(await c.AskAsync<string>($"select {position}::text", cancel)), Stopwatch.GetTimestamp());
        using (var timer = new PeriodicTimer(Measured))
        {
            await timer.WaitForNextTickAsync(cancel);
        }

        var second = Lsn.Parse(await c.AskAsync<string>($"select {position}::text", cancel));
        return new Discovered(version.ToString(CultureInfo.InvariantCulture), size, (second.Value - first.Value) / Stopwatch.GetElapsedTime(began).TotalSeconds, second.Value, facts, lacks, unseen);

        void Need(bool has, string otherwise)
        {
            if (!has)
            {
                lacks.Add(otherwise);
            }
        }

        int Number(string name) => int.TryParse(settings.GetValueOrDefault(name), NumberStyles.Integer, CultureInfo.InvariantCulture, out var n) ? n : 0;

        async Task GroupAsync(string group, string sql)
        {
            try
            {
                var rows = await c.RowsAsync($"{sql} limit {MostOfAGroup + 1}", r => new Discovered.Fact(group, r.GetString(0), r.IsDBNull(1) ? "" : r.GetString(1)), cancel);
                facts.AddRange(rows.Take(MostOfAGroup));
                if (rows.Count > MostOfAGroup)
                {
                    facts.Add(new(group, "…", $"more than {MostOfAGroup}"));
                }
            }
            catch (PostgresException e)
            {
                unseen.Add($"{group}: {e.MessageText}");
            }
        }
    }
}
