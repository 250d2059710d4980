using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.PostgreSql.Cluster;
using Npgsql;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>What a change is carried out on: a copy, or the cluster that others use.</summary>
internal abstract class ChangeGround
{
    /// <summary>How the parts stand.</summary>
    public abstract KeptParts Parts { get; }

    /// <summary>Whether rows are counted; on a cluster that others use its engine's estimates have to do.</summary>
    public abstract bool Counts { get; }

    /// <summary>How many errors its engine wrote since it was started, but for those of trying; null where nobody can look.</summary>
    public abstract long? Errors();

    /// <summary>A connection that looks, to one of its databases; null for the one it signs in to.</summary>
    public abstract Task<NpgsqlConnection> OpenAsync(string? database, CancellationToken cancel);

    /// <summary>A connection as the role that owns the database it signs in to, which may be written to.</summary>
    /// <exception cref="DriverException">It cannot be had, and says what is missing.</exception>
    public abstract Task<NpgsqlConnection> OpenAsOwnerAsync(CancellationToken cancel);

    /// <summary>Keeps how the parts stand.</summary>
    public abstract Task KeepAsync(KeptParts parts, CancellationToken cancel);

    /// <summary>The role that owns the database a connection is in.</summary>
    protected static Task<string> OwnerAsync(NpgsqlConnection connection, CancellationToken cancel) =>
        connection.AskAsync<string>("select pg_get_userbyid(datdba)::text from pg_database where datname = current_database()", cancel);

    /// <summary>A copy that stands aside: nobody else is in it.</summary>
    public sealed class Copy(Instance there, string signInTo) : ChangeGround
    {
        /// <inheritdoc/>
        public override KeptParts Parts => there.Now.Parts ?? KeptParts.None;

        /// <inheritdoc/>
        public override bool Counts => true;

        /// <inheritdoc/>
        public override long? Errors() => there.Errors() - Parts.OwnErrors;

        /// <inheritdoc/>
        public override async Task<NpgsqlConnection> OpenAsync(string? database, CancellationToken cancel)
        {
            await there.UpAsync(cancel);
            return await there.OpenAsync(database ?? signInTo, null, cancel);
        }

        /// <inheritdoc/>
        public override async Task<NpgsqlConnection> OpenAsOwnerAsync(CancellationToken cancel)
        {
            await there.PromoteAsync(cancel);
            await using var first = await there.OpenAsync(signInTo, null, cancel);
            return await there.OpenAsync(signInTo, await OwnerAsync(first, cancel), cancel);
        }

        /// <inheritdoc/>
        public override Task KeepAsync(KeptParts parts, CancellationToken cancel) => there.KeepAsync(there.Now with { Parts = parts }, cancel);
    }

    /// <summary>The cluster itself. While everybody is kept out of it the owner signs in to its socket; otherwise Imbrek's role acts as the owner, which has to be granted to it.</summary>
    public sealed class Live : ChangeGround
    {
        private readonly IClusterBook book;
        private readonly RunCall call;
        private readonly Id<Database> database;

        private Live(IClusterBook book, RunCall call, Id<Database> database) => (this.book, this.call, this.database) = (book, call, database);

        /// <inheritdoc/>
        public override KeptParts Parts => Now?.Parts ?? KeptParts.None;

        /// <inheritdoc/>
        public override bool Counts => false;

        private Changing? Now => book.Cluster(database).Changing is { } c && c.Run == call.Run ? c : null;

        /// <summary>A cluster for a run, once its call has been heard.</summary>
        /// <exception cref="DriverException">A higher fence has been heard of.</exception>
        public static async Task<Live> HeardAsync(IClusterBook book, RunCall call, Id<Database> database, CancellationToken cancel)
        {
            var live = new Live(book, call, database);
            if (live.Now?.Fence != call.Fence)
            {
                await live.KeepAsync(live.Parts, cancel);
            }

            return live;
        }

        /// <summary>Why Imbrek's role cannot act as the owner of a cluster that others use; null when it can.</summary>
        public static async Task<string?> WhyNoOwnerAsync(ClusterSpec cluster, CancellationToken cancel)
        {
            await using var connection = await Connections.OpenAsync(cluster, cancel);
            var owner = await OwnerAsync(connection, cancel);
            return await connection.AskAsync<bool>("select pg_has_role(current_user, $1, 'member')", cancel, owner) ? null : WhyNot(cluster, owner);
        }

        /// <inheritdoc/>
        public override long? Errors() => null;

        /// <inheritdoc/>
        public override Task<NpgsqlConnection> OpenAsync(string? database, CancellationToken cancel) => Connections.OpenAsync(book.Cluster(this.database), cancel, database);

        /// <inheritdoc/>
        public override async Task<NpgsqlConnection> OpenAsOwnerAsync(CancellationToken cancel)
        {
            var cluster = book.Cluster(database);
            var connection = await Connections.OpenAsync(cluster, cancel);
            try
            {
                var owner = await OwnerAsync(connection, cancel);
                if (cluster.Aside is not null)
                {
                    await connection.DisposeAsync();
                    return await Connections.OpenAsync(cluster with { User = owner }, cancel);
                }

                await using var become = new NpgsqlCommand($"set role {new NpgsqlCommandBuilder().QuoteIdentifier(owner)}", connection);
                try
                {
                    await become.ExecuteNonQueryAsync(cancel);
                }
                catch (PostgresException e) when (e.SqlState == PostgresErrorCodes.InsufficientPrivilege)
                {
                    throw new DriverException(DriverProblem.Refused, WhyNot(cluster, owner));
                }

                return connection;
            }
            catch
            {
                await connection.DisposeAsync();
                throw;
            }
        }

        /// <inheritdoc/>
        public override Task KeepAsync(KeptParts parts, CancellationToken cancel) => book.ChangingAsync(database, new(call.Run, call.Fence, parts), cancel);

        private static string WhyNot(ClusterSpec cluster, string owner) =>
            $"{cluster.User} may not act as {owner}, which owns {cluster.SignInTo}: grant it that role (grant \"{owner}\" to \"{cluster.User}\"), or have everybody kept out meanwhile, when {owner} itself can sign in";
    }
}
