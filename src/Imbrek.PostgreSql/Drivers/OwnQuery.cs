using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.Core.Formats;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>A query of an administrator's own, asked for reading alone.</summary>
internal static class OwnQuery
{
    private const double LongestSeconds = 60;

    /// <summary>Asks one as a check of what was restored: whoever answers false does not pass.</summary>
    public static async Task<CheckResult> CheckAsync(Instance there, ClusterSpec cluster, string query, CancellationToken cancel)
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
    public static bool IsNoAnswer(Exception e) => e is NpgsqlException or TimeoutException or InvalidCastException;

    /// <summary>Why, for people.</summary>
    public static string WhyNoAnswer(Exception e) => e switch { PostgresException p => p.MessageText, InvalidCastException => $"{e.Message} Cast it to text.", _ => e.Message };

    /// <summary>Asks one statement, in a transaction that only reads, with the rights to read data and no others: nothing of the host is within its reach.</summary>
    public static async Task<QueryRows> ReadAsync(NpgsqlConnection connection, string query, int most, CancellationToken cancel)
    {
        await using (var first = new NpgsqlCommand("begin read only; set local role pg_read_all_data", connection))
        {
            await first.ExecuteNonQueryAsync(cancel);
        }

        // A batch is sent as it stands: a second statement behind a semicolon is refused by the server.
        await using var batch = new NpgsqlBatch(connection) { Timeout = (int)LongestSeconds };
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
