using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// A trail: a table <c>imbrek_trail</c> into which every commit of a workload writes its number, its instant and a hash that runs over all before it, and whose commits are named
/// <c>trail N</c> in the log. It tells which commits must be there at a position, and which must not.
/// </summary>
internal static class Trail
{
    private const string Word = "trail ";

    /// <summary>The number in the name of a commit; null when it is no commit of a trail.</summary>
    public static long? NumberOf(string? name) =>
        name is not null && name.StartsWith(Word, StringComparison.Ordinal) && long.TryParse(name.AsSpan(Word.Length), NumberStyles.None, CultureInfo.InvariantCulture, out var n) ? n : null;

    /// <summary>Makes the table, and the function that a workload commits with.</summary>
    public const string Make =
        """
        create extension if not exists amcheck;
        create table if not exists imbrek_trail (n bigint primary key, xid bigint not null, at timestamptz not null, hash text not null);
        create or replace function imbrek_walk() returns bigint language plpgsql as $$
        declare last record; mine bigint;
        begin
          perform pg_advisory_xact_lock(710);
          select n, hash into last from imbrek_trail order by n desc limit 1;
          mine := coalesce(last.n, 0) + 1;
          insert into imbrek_trail values (mine, pg_current_xact_id()::text::bigint, clock_timestamp(), encode(sha256((coalesce(last.hash, '') || mine)::bytea), 'hex'));
          perform pg_logical_emit_message(true, 'imbrek', 'trail ' || mine);
          return mine;
        end $$;
        """;

    /// <summary>Checks every trail in a restored cluster; nothing where there is none.</summary>
    /// <param name="connection">A connection to it.</param>
    /// <param name="open">Opens one to a database of it.</param>
    /// <param name="last">The number of the last commit before the stop, as the log says; null when that is not known.</param>
    /// <param name="cancel">Stops it.</param>
    public static async Task<IReadOnlyList<CheckResult>> CheckAsync(NpgsqlConnection connection, Func<string, Task<NpgsqlConnection>> open, long? last, CancellationToken cancel)
    {
        var results = new List<CheckResult>();
        foreach (var name in await connection.RowsAsync("select datname from pg_database where datallowconn and not datistemplate order by 1", r => r.GetString(0), cancel))
        {
            await using var inside = await open(name);
            if (await inside.AskAsync<bool>("select to_regclass('imbrek_trail') is not null", cancel))
            {
                var (rows, newest, broken) = (await inside.RowsAsync(
                    """
                    select count(*), coalesce(max(n), 0), count(*) filter (where hash <> encode(sha256((coalesce(before, '') || n)::bytea), 'hex'))
                    from (select n, hash, lag(hash) over (order by n) as before from imbrek_trail) t
                    """,
                    r => (r.GetInt64(0), r.GetInt64(1), r.GetInt64(2)),
                    cancel))[0];
                var right = rows == newest && broken == 0 && (last is null || last == newest);
                results.Add(new CheckResult(
                    "trail",
                    right,
                    rows != newest ? $"{newest - rows} of {newest} commits are missing"
                    : broken > 0 ? $"{broken} hashes do not follow from those before"
                    : last is not null && last != newest ? $"ends with commit {newest}; the last one before the stop is {last}"
                    : $"commits 1 to {newest}, each following from the one before{(last is null ? "" : "; the log names the same one as the last")}"));
            }
        }

        return results;
    }
}
