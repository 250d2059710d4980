using System.Globalization;
using System.Text.Json.Nodes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Data;
using Imbrek.PostgreSql.Cluster;
using Imbrek.PostgreSql.Drivers;
using Imbrek.Server;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Serving;

/// <summary>Adds a standby that follows a cluster already: looks at it from both sides, makes the replica of what both say, and has it watched.</summary>
internal sealed class NewStandby(NpgsqlDataSource source, FleetState fleet, ClusterBook book, LogDuty duty, IGuest guest, Dispatcher dispatcher, FleetChanges parts, IClock clock)
{
    /// <summary>What is added.</summary>
    /// <param name="Replica">What the fleet calls it.</param>
    /// <param name="Address">Name or address of its machine.</param>
    /// <param name="Port">Its port.</param>
    /// <param name="User">The role to sign in as; null for the one of its primary.</param>
    /// <param name="Credential">The name of the credential; null for that of its primary.</param>
    /// <param name="Site">The site it stands in; made where there is none of that name.</param>
    /// <param name="Host">What the fleet calls its machine; null for the name of the replica with <c>-host</c>.</param>
    /// <param name="PromoteSeconds">How long taking over takes; null for 5.</param>
    /// <param name="WatchSeconds">How often it is looked at; null for 2.</param>
    public sealed record StandbyRequest(string Replica, string Address, int Port, string? User, string? Credential, string Site, string? Host, double? PromoteSeconds, double? WatchSeconds);

    /// <summary>What both sides say of a standby.</summary>
    /// <param name="Mode">Whether commits wait for it.</param>
    /// <param name="DelaySeconds">By how much it holds back what it received.</param>
    /// <param name="From">The standby it is fed by; null for the primary.</param>
    /// <param name="Slot">The slot it receives by; null for none.</param>
    /// <param name="KeepLogBytes">How much log its source keeps for it; null for as much as it needs.</param>
    /// <param name="Receiver">What its receiver does.</param>
    /// <param name="Timeline">The timeline it is on.</param>
    /// <param name="SourceCollation">By which library its primary's machine orders text, with its version.</param>
    /// <param name="Collation">The same of its own.</param>
    /// <param name="Lacks">What is in the way; empty when nothing is.</param>
    public sealed record StandbyFound(
        string Mode, double DelaySeconds, string? From, string? Slot, long? KeepLogBytes, string Receiver, int Timeline, string SourceCollation, string Collation, IReadOnlyList<string> Lacks);

    /// <summary>By which library a machine orders text, and its version: where two machines differ in that, every index on text that was built on the one is wrong on the other.</summary>
    private static Task<string> CollationAsync(NpgsqlConnection connection, CancellationToken cancel) => connection.AskAsync<string>(
        "select coalesce((select 'libc ' || pg_collation_actual_version(oid) from pg_collation where collprovider = 'c' and pg_collation_actual_version(oid) is not null limit 1), 'by code point alone')",
        cancel);

    private static JsonObject Ordering(JsonObject host, string collation)
    {
        host["collation"] = collation;
        return host;
    }

    /// <summary>Looks at one, and keeps nothing.</summary>
    /// <exception cref="BadInputException">It cannot be reached, or lets nobody in.</exception>
    public async Task<StandbyFound> LookAsync(string database, StandbyRequest r, CancellationToken cancel)
    {
        var cluster = Cluster(database);
        var standby = SpecOf(cluster, r);
        try
        {
            await using var there = await Connections.OpenAsync(standby, cancel);
            var seen = await StandbyEye.AskAsync(there, cancel);
            await using var here = await Connections.OpenAsync(cluster, cancel);
            var system = await here.AskAsync<long>("select system_identifier from pg_control_system()", cancel);
            var sync = await here.AskAsync<bool>(
                """
                select exists (select 1 from pg_stat_replication r left join pg_replication_slots s on s.active_pid = r.pid
                  where r.sync_state in ('sync', 'quorum') and (s.slot_name = $1 or ($1 = '' and r.application_name = $2)))
                """,
                cancel,
                seen.Slot ?? "",
                seen.ClusterName);
            var keep = await here.AskAsync<string>(seen.Slot is null ? "show wal_keep_size" : "show max_slot_wal_keep_size", cancel);
            var lacks = new List<string>();
            if (!seen.InRecovery)
            {
                lacks.Add("it is no standby: it takes writes of its own");
            }

            if (seen.SystemId != system)
            {
                lacks.Add("it is a copy of another cluster");
            }

            if (seen.InRecovery && seen.Receiver is null)
            {
                lacks.Add("its receiver does not run: it follows nobody now");
            }

            var from = cluster.Standbys.FirstOrDefault(s => s.Port == seen.SenderPort && s.Address == seen.SenderHost && s.Replica != r.Replica)?.Replica;
            return new(sync ? "sync" : "async", Span(seen.Delay), from, seen.Slot, Bytes(keep), seen.Receiver ?? "none", seen.Timeline, await CollationAsync(here, cancel), await CollationAsync(there, cancel), lacks);
        }
        catch (Exception e) when (e is DriverException or NpgsqlException or TimeoutException)
        {
            throw new BadInputException("address", e is DriverException d ? d.Message : Connections.Told(standby, e, cancel).Message, 409, e is DriverException { Problem: DriverProblem.Refused } ? "refused" : "unreachable");
        }
    }

    /// <summary>Adds one.</summary>
    /// <exception cref="BadInputException">It cannot be; names the member at fault, and nothing is kept.</exception>
    public async Task<StandbyFound> AddAsync(string database, StandbyRequest r, string who, CancellationToken cancel)
    {
        var cluster = Cluster(database);
        var standby = SpecOf(cluster, r);
        NewCluster.Id("replica", r.Replica);
        NewCluster.Id("site", r.Site);
        var host = r.Host is { Length: > 0 } ? r.Host : $"{r.Replica}-host";
        NewCluster.Id("host", host);
        var now = fleet.Fleet;
        if (now.Replicas.ContainsKey(new(r.Replica)))
        {
            throw new BadInputException("replica", $"there is a replica '{r.Replica}' already", 409, "there-already");
        }

        if (book.All.Values.Any(c => c.UsualAddress == r.Address && c.Port == r.Port) || book.All.Values.SelectMany(c => c.Standbys).Any(s => s.Address == r.Address && s.Port == r.Port))
        {
            throw new BadInputException("address", "that engine is here already", 409, "there-already");
        }

        var found = await LookAsync(database, r, cancel);
        if (found.Lacks.Count > 0)
        {
            throw new BadInputException("address", $"it cannot be watched as a standby: {string.Join("; ", found.Lacks)}", 409, "lacks");
        }

        var primary = now.DatabaseById[new(database)].Host;
        var changes = NewCluster.Between(now, now.Hosts[primary].Site.Value, r.Site).ToList();

        // By what both machines order text is stated of their hosts, so that it is seen when they differ.
        changes.Add(FleetParts.Put("hosts", host, Ordering(parts.Find("hosts", host) ?? NewCluster.HostPart(r.Site), found.Collation)));
        if (primary.Value != host)
        {
            changes.Add(FleetParts.Put("hosts", primary.Value, Ordering(parts.Find("hosts", primary.Value)!, found.SourceCollation)));
        }

        var part = new JsonObject
        {
            ["database"] = database,
            ["host"] = host,
            ["mode"] = found.Mode,
            ["delaySeconds"] = found.DelaySeconds,
            ["promoteSeconds"] = r.PromoteSeconds ?? 5,
            ["watchSeconds"] = r.WatchSeconds ?? 2,
            ["since"] = Instants.Write(clock.GetCurrentInstant()),
        };
        if (found.From is { } from)
        {
            part["from"] = from;
        }

        if (found.KeepLogBytes is { } keep)
        {
            part["keepLogBytes"] = keep;
        }

        changes.Add(FleetParts.Put("replicas", r.Replica, part));
        await FleetParts.ChangeAsync(
            changes, null, $"standby {standby.Address}:{standby.Port} of {database} added", fleet, source, guest, dispatcher, clock, who, (data, inside) => ClusterBook.ChangeAsync(data, database, s => [.. s, standby], inside), cancel);
        await book.LoadAsync(cancel);
        duty.Wake();
        return found;
    }

    /// <summary>Watches a standby no more; it counts for nothing from now on. Nothing is done to it.</summary>
    /// <exception cref="BadInputException">There is none.</exception>
    public async Task RemoveAsync(string database, string replica, string who, CancellationToken cancel)
    {
        if (Cluster(database).Standbys.All(s => s.Replica != replica))
        {
            throw new BadInputException("replica", $"{database} has no standby '{replica}'", 404, "not-found");
        }

        await FleetParts.ChangeAsync(
            [Server.Features.Runs.RemoveReplica.RemoveReplicaKind.Ended(parts, replica, clock.GetCurrentInstant())],
            null,
            $"standby {replica} of {database} is watched no more",
            fleet,
            source,
            guest,
            dispatcher,
            clock,
            who,
            (data, inside) => ClusterBook.ChangeAsync(data, database, s => [.. s.Where(x => x.Replica != replica)], inside),
            cancel);
        await book.LoadAsync(cancel);
    }

    private ClusterSpec Cluster(string database) => book.All.TryGetValue(database, out var c) ? c : throw new BadInputException("id", $"there is no cluster '{database}'", 404, "not-found");

    private static StandbySpec SpecOf(ClusterSpec cluster, StandbyRequest r)
    {
        var checkedSpec = NewCluster.SpecOf(cluster.Database, r.Address, r.Port, r.User is { Length: > 0 } ? r.User : cluster.User, cluster.SignInTo, r.Credential is { Length: > 0 } ? r.Credential : cluster.Credential, cluster.LogStore, null);
        return new(r.Replica, checkedSpec.Address, checkedSpec.Port, checkedSpec.User, checkedSpec.SignInTo, checkedSpec.Credential);
    }

    /// <summary>A span as the engine shows it, with its unit: <c>2min</c>; <c>0</c> is none. Seconds.</summary>
    internal static double Span(string shown) => Amount(shown, out var unit) * unit switch { "ms" => 0.001, "s" => 1, "min" => 60, "h" => 3600, "d" => 86_400, _ => 0.001 };

    /// <summary>A size as the engine shows it: <c>512MB</c>; null for <c>-1</c>, which is no bound.</summary>
    internal static long? Bytes(string shown) => Amount(shown, out var unit) is var n && n < 0 ? null : (long)n << (unit switch { "kB" => 10, "MB" => 20, "GB" => 30, "TB" => 40, _ => 0 });

    private static double Amount(string shown, out string unit)
    {
        var digits = shown.TakeWhile(c => char.IsAsciiDigit(c) || c is '-' or '.').Count();
        unit = shown[digits..].Trim();
        return double.TryParse(shown.AsSpan(0, digits), NumberStyles.Float, CultureInfo.InvariantCulture, out var n) ? n : 0;
    }
}
