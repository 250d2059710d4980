using System.Diagnostics;
using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Carries changes out on copies of clusters, and on clusters that others use, as <see cref="Statements"/> are; looks at them before and after.</summary>
internal sealed class PostgreSqlChangeDriver(IClusterBook book, IClock clock) : IChangeDriver
{
    private const int TimesAsked = 5, MostTables = 2000, LongestAnswer = 200;

    private readonly PostgreSqlRestoreDriver copies = new(book, clock);

    /// <summary>Why a part is carried out nowhere; null when it is.</summary>
    public static string? WhyNever(ChangePart part) =>
        part.UpgradesTo is { } version ? $"its drivers move no cluster to version {version}" : Statements.WhyNever(part.Statements);

    /// <inheritdoc/>
    public async Task<string?> WhyNotAsync(Id<Database> database, Change change, CancellationToken cancel) => change.IsOutage ? null : await ChangeGround.Live.WhyNoOwnerAsync(book.Cluster(database), cancel);

    /// <inheritdoc/>
    public async Task<ChangeLook> LookAsync(RunCall call, ChangeTarget target, IReadOnlyList<NamedQuery> queries, CancellationToken cancel)
    {
        var there = await GroundAsync(call, target, cancel);
        var errors = there.Errors();
        try
        {
            var (tables, version) = (new List<TableRows>(), "");
            await using (var connection = await there.OpenAsync(null, cancel))
            {
                version = await connection.AskAsync<string>("select split_part(current_setting('server_version'), ' ', 1)", cancel);
                foreach (var name in await connection.RowsAsync("select datname from pg_database where datallowconn and not datistemplate order by 1", r => r.GetString(0), cancel))
                {
                    await using var inside = await there.OpenAsync(name, cancel);
                    foreach (var (table, rows) in await inside.RowsAsync(
                        $"""
                        select c.oid::regclass::text,
                          case when pg_stat_get_tuples_inserted(c.oid) + pg_stat_get_tuples_deleted(c.oid) > 0 then pg_stat_get_live_tuples(c.oid) else greatest(c.reltuples, 0)::bigint end
                        from pg_class c join pg_namespace n on n.oid = c.relnamespace
                        where c.relkind in ('r', 'm') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' order by 1 limit {MostTables - tables.Count}
                        """,
                        r => (r.GetString(0), r.GetInt64(1)),
                        cancel))
                    {
                        tables.Add(there.Counts ? new($"{name}.{table}", await CountAsync(inside, table, cancel)) : new($"{name}.{table}", rows, Estimated: true));
                    }
                }
            }

            var took = new List<QueryTook>();
            foreach (var query in queries)
            {
                took.Add(await AskAsync(there, query, cancel));
            }

            return new(clock.GetCurrentInstant(), version, tables, took, errors, there.Errors());
        }
        catch (Exception e) when (target.Aside is null && (e is NpgsqlException or TimeoutException))
        {
            throw Connections.Told(book.Cluster(target.Database), e, cancel);
        }
    }

    /// <inheritdoc/>
    public async Task<PartDone> DoAsync(RunCall call, ChangeTarget target, int number, int round, ChangePart part, CancellationToken cancel)
    {
        var there = await GroundAsync(call, target, cancel);
        if (WhyNever(part) is { } never)
        {
            throw new DriverException(DriverProblem.Refused, never);
        }

        return await Statements.DoAsync(there, number, round, part.Statements, cancel);
    }

    private async Task<ChangeGround> GroundAsync(RunCall call, ChangeTarget target, CancellationToken cancel) =>
        target.Aside is { } aside ? new ChangeGround.Copy(copies.Require(call, aside), book.Cluster(target.Database).SignInTo) : await ChangeGround.Live.HeardAsync(book, call, target.Database, cancel);

    private static async Task<long> CountAsync(NpgsqlConnection connection, string table, CancellationToken cancel)
    {
        await using var count = new NpgsqlCommand($"select count(*) from {table}", connection) { CommandTimeout = Statements.LongestSeconds };
        return (long)(await count.ExecuteScalarAsync(cancel))!;
    }

    /// <summary>Asks a query several times; the middle one counts.</summary>
    private static async Task<QueryTook> AskAsync(ChangeGround there, NamedQuery query, CancellationToken cancel)
    {
        var (seconds, answer) = (new List<double>(), "");
        for (var time = 0; time < TimesAsked; time++)
        {
            await using var connection = await there.OpenAsync(null, cancel);
            var began = Stopwatch.GetTimestamp();
            try
            {
                var rows = await OwnQuery.ReadAsync(connection, query.Query, LongestAnswer, cancel);
                answer = string.Join("; ", rows.Rows.Select(r => string.Join(',', r)));
            }
            catch (Exception e) when (OwnQuery.IsNoAnswer(e))
            {
                return new(query.Name, null, Stopwatch.GetElapsedTime(began).TotalSeconds, OwnQuery.WhyNoAnswer(e));
            }

            seconds.Add(Stopwatch.GetElapsedTime(began).TotalSeconds);
        }

        return new(query.Name, answer.Length > LongestAnswer ? answer[..LongestAnswer] : answer, seconds.Order().ElementAt(TimesAsked / 2), null, seconds.Min());
    }
}
