using System.Diagnostics;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// Statements of an administrator's own, a part of a change or what masks a clone: one transaction, so that after a crash the engine itself says whether it was committed; where a statement allows no transaction, one by one.
/// They are carried out as the role that owns the database signed in to: they may what that may.
/// </summary>
internal static class Statements
{
    /// <summary>How long one may take, seconds.</summary>
    public const int LongestSeconds = 24 * 3600;

    /// <summary>What the engine says of a statement that allows no transaction around it.</summary>
    private const string NoTransaction = "25001";

    /// <summary>What would end the transaction that they are.</summary>
    private static readonly HashSet<string> EndsTransactions = ["BEGIN", "START", "COMMIT", "END", "ROLLBACK", "ABORT", "PREPARE"];

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(200);

    /// <summary>Why they are carried out nowhere; null when they are.</summary>
    public static string? WhyNever(IReadOnlyList<string> statements) =>
        statements.FirstOrDefault(s => EndsTransactions.Contains(s.TrimStart().Split([' ', ';', '\n', '\r', '\t'], 2)[0].ToUpperInvariant())) is { } ends ? $"\"{InputBounds.Quote(ends)}\" cannot be carried out: all of them are one transaction already" : null;

    /// <summary>Carries them out; asked again for a number whose statements were, it says what they took then.</summary>
    /// <param name="there">What they are carried out on.</param>
    /// <param name="number">The number by which they are known there.</param>
    /// <param name="round">How often people have decided again that they be carried out: so a statement of which nobody knows is carried out again.</param>
    /// <param name="statements">The statements.</param>
    /// <param name="cancel">Breaks it off.</param>
    /// <exception cref="DriverException">One cannot be carried out, and says which; or nobody knows whether it was.</exception>
    public static async Task<PartDone> DoAsync(ChangeGround there, int number, int round, IReadOnlyList<string> statements, CancellationToken cancel)
    {
        if (there.Parts.Done.GetValueOrDefault(number) is { } before)
        {
            return before;
        }

        if (WhyNever(statements) is { } never)
        {
            throw new DriverException(DriverProblem.Refused, never);
        }

        await using var connection = await there.OpenAsOwnerAsync(cancel);
        if (there.Parts.Begun is { } begun && begun.Number == number)
        {
            if (begun.Transaction is not { } transaction)
            {
                if (begun.Refused || begun.Round < round)
                {
                    return await KeepAsync(there, number, await OneByOneAsync(there, connection, number, round, statements, begun.Done.Statements, cancel), cancel);
                }

                throw new DriverException(DriverProblem.Refused, $"who carried it out ended after {begun.Done.Statements.Count} of {statements.Count} statements; whether the next was carried out nobody knows. Carried out again, it goes on with that one");
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
            return await KeepAsync(there, number, await AsOneAsync(there, connection, number, round, statements, cancel), cancel);
        }
        catch (PostgresException e) when (e.SqlState == NoTransaction)
        {
            await using var back = new NpgsqlCommand("rollback", connection);
            await back.ExecuteNonQueryAsync(cancel);
            await there.KeepAsync(there.Parts with { OwnErrors = there.Parts.OwnErrors + 1 }, cancel);
            return await KeepAsync(there, number, await OneByOneAsync(there, connection, number, round, statements, [], cancel), cancel);
        }
    }

    private static async Task<PartDone> KeepAsync(ChangeGround there, int number, PartDone done, CancellationToken cancel)
    {
        await there.KeepAsync(there.Parts.With(number, done), cancel);
        return done;
    }

    /// <summary>All statements in one transaction, whose number is kept before it is committed.</summary>
    private static async Task<PartDone> AsOneAsync(ChangeGround there, NpgsqlConnection connection, int number, int round, IReadOnlyList<string> statements, CancellationToken cancel)
    {
        var (began, took) = (Stopwatch.GetTimestamp(), new List<StatementTook>());
        await using (var begin = new NpgsqlCommand("begin", connection))
        {
            await begin.ExecuteNonQueryAsync(cancel);
        }

        foreach (var statement in statements)
        {
            try
            {
                took.Add(await CarryOutAsync(connection, statement, cancel));
            }
            catch (Exception e) when (e is NpgsqlException and not PostgresException { SqlState: NoTransaction } or TimeoutException)
            {
                throw Refused(e, statement, took.Count);
            }
        }

        var transaction = await connection.AskAsync<string>("select pg_current_xact_id()::text", cancel);
        var done = new PartDone(Stopwatch.GetElapsedTime(began).TotalSeconds, took);
        await there.KeepAsync(there.Parts with { Begun = new(number, transaction, done, round) }, cancel);
        await using var commit = new NpgsqlCommand("commit", connection) { CommandTimeout = LongestSeconds };
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

    /// <summary>One statement after another; each is kept as begun before it is, so that whoever comes after a crash knows that nobody knows.</summary>
    private static async Task<PartDone> OneByOneAsync(ChangeGround there, NpgsqlConnection connection, int number, int round, IReadOnlyList<string> statements, IReadOnlyList<StatementTook> before, CancellationToken cancel)
    {
        var took = new List<StatementTook>(before);
        foreach (var statement in statements.Skip(before.Count))
        {
            var begun = new BegunPart(number, null, new PartDone(took.Sum(t => t.Seconds), [.. took]), round);
            await there.KeepAsync(there.Parts with { Begun = begun }, cancel);
            try
            {
                took.Add(await CarryOutAsync(connection, statement, cancel));
            }
            catch (Exception e) when (e is NpgsqlException or TimeoutException)
            {
                if (e is PostgresException)
                {
                    await there.KeepAsync(there.Parts with { Begun = begun with { Refused = true } }, cancel);
                }

                throw Refused(e, statement, took.Count);
            }
        }

        return new PartDone(took.Sum(t => t.Seconds), took);
    }

    private static async Task<StatementTook> CarryOutAsync(NpgsqlConnection connection, string statement, CancellationToken cancel)
    {
        var began = Stopwatch.GetTimestamp();
        await using var batch = new NpgsqlBatch(connection) { Timeout = LongestSeconds };
        batch.BatchCommands.Add(new NpgsqlBatchCommand(statement));
        var rows = await batch.ExecuteNonQueryAsync(cancel);
        return new(InputBounds.Quote(statement), Stopwatch.GetElapsedTime(began).TotalSeconds, rows < 0 ? "done" : $"{rows} rows");
    }

    private static DriverException Refused(Exception e, string statement, int before) =>
        new(DriverProblem.Refused, $"\"{InputBounds.Quote(statement)}\" cannot be carried out: {OwnQuery.WhyNoAnswer(e)}{(before == 0 ? "" : $"; {before} before it could")}");
}
