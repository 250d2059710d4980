using System.Diagnostics;
using Imbrek.Core.Changes;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using NodaTime;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>Carries changes out on copies of clusters: a part is one transaction, so that after a crash the engine itself says whether it was committed; where a statement allows no transaction, one by one. Statements are carried out as the role that owns the database signed in to: they may what that may.</summary>
internal sealed class PostgreSqlChangeDriver(IClusterBook book, IClock clock) : IChangeDriver
{
    private const int TimesAsked = 5, MostTables = 2000, LongestAnswer = 200, StatementSeconds = 24 * 3600;

    /// <summary>What the engine says of a statement that allows no transaction around it.</summary>
    private const string NoTransaction = "25001";

    /// <summary>What would end the transaction that a part is.</summary>
    private static readonly HashSet<string> EndsTransactions = ["BEGIN", "START", "COMMIT", "END", "ROLLBACK", "ABORT", "PREPARE"];

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(200);

    private readonly PostgreSqlRestoreDriver copies = new(book);

    /// <inheritdoc/>
    public async Task<ChangeLook> LookAsync(RunCall call, ChangeTarget target, IReadOnlyList<NamedQuery> queries, CancellationToken cancel)
    {
        var there = copies.Require(call, Aside(target));
        await there.UpAsync(cancel);
        var errors = there.Errors();
        var (tables, version) = (new List<TableRows>(), "");
        await using (var connection = await there.OpenAsync(null, cancel))
        {
            version = await connection.AskAsync<string>("select split_part(current_setting('server_version'), ' ', 1)", cancel);
            foreach (var name in await connection.RowsAsync("select datname from pg_database where datallowconn and not datistemplate order by 1", r => r.GetString(0), cancel))
            {
                await using var inside = await there.OpenAsync(name, cancel);
                foreach (var table in await inside.RowsAsync(
                    $"select c.oid::regclass::text from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('r', 'm') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' order by 1 limit {MostTables - tables.Count}",
                    r => r.GetString(0),
                    cancel))
                {
                    tables.Add(new($"{name}.{table}", await inside.AskAsync<long>($"select count(*) from {table}", cancel)));
                }
            }
        }

        var took = new List<QueryTook>();
        foreach (var query in queries)
        {
            took.Add(await AskAsync(there, target, query, cancel));
        }

        return new(clock.GetCurrentInstant(), version, tables, took, errors, there.Errors());
    }

    /// <inheritdoc/>
    public async Task<PartDone> DoAsync(RunCall call, ChangeTarget target, int number, ChangePart part, CancellationToken cancel)
    {
        var there = copies.Require(call, Aside(target));
        if (there.Now.Parts?.GetValueOrDefault(number) is { } done)
        {
            return done;
        }

        if (part.UpgradesTo is { } version)
        {
            throw new DriverException(DriverProblem.Refused, $"this driver moves no cluster to version {version}");
        }

        if (part.Statements.FirstOrDefault(s => EndsTransactions.Contains(s.TrimStart().Split([' ', ';', '\n', '\r', '\t'], 2)[0].ToUpperInvariant())) is { } ends)
        {
            throw new DriverException(DriverProblem.Refused, $"\"{InputBounds.Quote(ends)}\" cannot be carried out: a part is a transaction by itself");
        }

        await there.PromoteAsync(cancel);
        await using var connection = await there.OpenAsOwnerAsync(book.Cluster(target.Database).SignInTo, cancel);
        if (there.Now.Doing is { } begun && begun.Number == number)
        {
            if (begun.Transaction is not { } transaction)
            {
                throw new DriverException(DriverProblem.Refused, $"who carried it out ended after {begun.Done.Statements.Count} of {part.Statements.Count} statements; whether the next was carried out nobody knows");
            }

            // A session whose client is gone is ended by its engine a moment later.
            using var timer = new PeriodicTimer(Look);
            string? status;
            while ((status = await connection.AskAsync<string?>($"select pg_xact_status('{long.Parse(transaction, System.Globalization.CultureInfo.InvariantCulture)}'::xid8)", cancel)) == "in progress")
            {
                await timer.WaitForNextTickAsync(cancel);
            }

            if (status == "committed")
            {
                return await KeepAsync(there, number, begun.Done, cancel);
            }
        }

        try
        {
            return await KeepAsync(there, number, await AsOneAsync(there, connection, number, part, cancel), cancel);
        }
        catch (PostgresException e) when (e.SqlState == NoTransaction)
        {
            await using var back = new NpgsqlCommand("rollback", connection);
            await back.ExecuteNonQueryAsync(cancel);
            return await KeepAsync(there, number, await OneByOneAsync(there, connection, number, part, cancel), cancel);
        }
    }

    private static Core.Drivers.InstanceSpec Aside(ChangeTarget target) => target.Aside ?? throw new DriverException(DriverProblem.Refused, "this driver changes copies alone");

    private static async Task<PartDone> KeepAsync(Instance there, int number, PartDone done, CancellationToken cancel)
    {
        await there.KeepAsync(there.Now with { Doing = null, Parts = new Dictionary<int, PartDone>(there.Now.Parts ?? new Dictionary<int, PartDone>()) { [number] = done } }, cancel);
        return done;
    }

    /// <summary>All statements in one transaction, whose number is kept before it is committed.</summary>
    private static async Task<PartDone> AsOneAsync(Instance there, NpgsqlConnection connection, int number, ChangePart part, CancellationToken cancel)
    {
        var (began, took) = (Stopwatch.GetTimestamp(), new List<StatementTook>());
        await using (var begin = new NpgsqlCommand("begin", connection))
        {
            await begin.ExecuteNonQueryAsync(cancel);
        }

        foreach (var statement in part.Statements)
        {
            took.Add(await CarryOutAsync(connection, statement, took.Count, cancel));
        }

        var transaction = await connection.AskAsync<string>("select pg_current_xact_id()::text", cancel);
        var done = new PartDone(Stopwatch.GetElapsedTime(began).TotalSeconds, took);
        await there.KeepAsync(there.Now with { Doing = new(number, transaction, done) }, cancel);
        await using var commit = new NpgsqlCommand("commit", connection) { CommandTimeout = StatementSeconds };
        try
        {
            await commit.ExecuteNonQueryAsync(cancel);
        }
        catch (PostgresException e)
        {
            throw new DriverException(DriverProblem.Refused, $"it cannot be committed: {e.MessageText}");
        }

        return done with { Seconds = Stopwatch.GetElapsedTime(began).TotalSeconds };
    }

    private static async Task<PartDone> OneByOneAsync(Instance there, NpgsqlConnection connection, int number, ChangePart part, CancellationToken cancel)
    {
        var took = new List<StatementTook>();
        foreach (var statement in part.Statements)
        {
            await there.KeepAsync(there.Now with { Doing = new(number, null, new PartDone(took.Sum(t => t.Seconds), [.. took])) }, cancel);
            try
            {
                took.Add(await CarryOutAsync(connection, statement, took.Count, cancel));
            }
            catch (PostgresException e)
            {
                throw Refused(e, statement, took.Count);
            }
        }

        return new PartDone(took.Sum(t => t.Seconds), took);
    }

    /// <exception cref="PostgresException">It allows no transaction.</exception>
    private static async Task<StatementTook> CarryOutAsync(NpgsqlConnection connection, string statement, int before, CancellationToken cancel)
    {
        var began = Stopwatch.GetTimestamp();
        try
        {
            await using var batch = new NpgsqlBatch(connection) { Timeout = StatementSeconds };
            batch.BatchCommands.Add(new NpgsqlBatchCommand(statement));
            var rows = await batch.ExecuteNonQueryAsync(cancel);
            return new(InputBounds.Quote(statement), Stopwatch.GetElapsedTime(began).TotalSeconds, rows < 0 ? "done" : $"{rows} rows");
        }
        catch (Exception e) when (e is NpgsqlException and not PostgresException { SqlState: NoTransaction } or TimeoutException)
        {
            throw Refused(e, statement, before);
        }
    }

    private static DriverException Refused(Exception e, string statement, int before) =>
        new(DriverProblem.Refused, $"\"{InputBounds.Quote(statement)}\" cannot be carried out: {PostgreSqlRestoreDriver.WhyNoAnswer(e)}{(before == 0 ? "" : $"; {before} before it could")}");

    /// <summary>Asks a query several times; the middle one counts.</summary>
    private async Task<QueryTook> AskAsync(Instance there, ChangeTarget target, NamedQuery query, CancellationToken cancel)
    {
        var (seconds, answer) = (new List<double>(), "");
        for (var time = 0; time < TimesAsked; time++)
        {
            await using var connection = await there.OpenAsync(book.Cluster(target.Database).SignInTo, cancel);
            var began = Stopwatch.GetTimestamp();
            try
            {
                var rows = await PostgreSqlRestoreDriver.ReadAsync(connection, query.Query, LongestAnswer, cancel);
                answer = string.Join("; ", rows.Rows.Select(r => string.Join(',', r)));
            }
            catch (Exception e) when (PostgreSqlRestoreDriver.IsNoAnswer(e))
            {
                return new(query.Name, null, Stopwatch.GetElapsedTime(began).TotalSeconds, PostgreSqlRestoreDriver.WhyNoAnswer(e));
            }

            seconds.Add(Stopwatch.GetElapsedTime(began).TotalSeconds);
        }

        return new(query.Name, answer.Length > LongestAnswer ? answer[..LongestAnswer] : answer, seconds.Order().ElementAt(TimesAsked / 2), null);
    }
}
