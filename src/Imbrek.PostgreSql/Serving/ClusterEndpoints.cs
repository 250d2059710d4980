using System.Security.Claims;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Drivers;
using Imbrek.Core.Fleet;
using Imbrek.PostgreSql.Drivers;
using Imbrek.PostgreSql.Log;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.AspNetCore.Routing;
using NodaTime;

namespace Imbrek.PostgreSql.Serving;

/// <summary>Clusters: looked at, added, watched, taken away; and the commits in their log, one of which a restore can stop before.</summary>
internal static class ClusterEndpoints
{
    private const int MostCommits = 200;
    private const long MostBytes = 512L << 20;
    private static readonly Duration[] Around = [Duration.FromSeconds(2), Duration.FromSeconds(30)];

    public sealed record ClusterAddress(string Address, int Port, string User, string? SignInTo, string? Credential);

    public sealed record FactView(string Group, string Name, string Value);

    public sealed record DiscoveredView(string Version, long SizeBytes, double LogBytesPerSecond, string Position, IReadOnlyList<FactView> Facts, IReadOnlyList<string> Lacks, IReadOnlyList<string> Unseen)
    {
        public static DiscoveredView Of(Discovered d) =>
            new(d.Version, d.SizeBytes, d.LogBytesPerSecond, new Lsn(d.Position).ToString(), [.. d.Facts.Select(f => new FactView(f.Group, f.Name, f.Value))], d.Lacks, d.Unseen);
    }

    /// <summary>A cluster, how the receiving of its log stands, and the run that keeps everybody out of it.</summary>
    public sealed record ClusterView(
        string Database, string Name, string Address, int Port, string User, string? Credential, string Store, string? Folder, long LogRoomBytes, string Slot, Instant? At, int Timeline, string? Position, string? SourcePosition, long BehindBytes, Instant? CoversTo, long KeptBytes, string? Problem, IReadOnlyList<StandbyView> Standbys, Guid? KeptOutBy);

    /// <summary>A standby that is watched.</summary>
    public sealed record StandbyView(string Replica, string Address, int Port);

    public sealed record Removed(string? NotDone);

    /// <summary>A commit of the log.</summary>
    /// <param name="Before">The position to stop before, so that it is not in.</param>
    /// <param name="At">When it was made, to the microsecond.</param>
    /// <param name="Target">The instant to ask a way to: the first whole millisecond that has it.</param>
    /// <param name="Position">Its position, as the engine writes it.</param>
    /// <param name="Transaction">The number of its transaction.</param>
    /// <param name="Name">What it was named by who made it; null when it was not.</param>
    public sealed record CommitView(long Before, string At, Instant Target, string Position, uint Transaction, string? Name);

    public static void Map(IEndpointRouteBuilder app)
    {
        app.MapGet("/api/clusters", List).Needs(Roles.Look).WithName("Clusters");
        app.MapPost("/api/clusters/look", LookAsync).Needs(Roles.Administer).Computes().WithName("LookAtCluster");
        app.MapPost("/api/clusters", AddAsync).Needs(Roles.Administer).Computes().WithName("AddCluster");
        app.MapDelete("/api/clusters/{id}", RemoveAsync).Needs(Roles.Administer).WithName("RemoveCluster");
        app.MapPost("/api/clusters/{id}/standbys/look", LookAtStandbyAsync).Needs(Roles.Administer).Computes().WithName("LookAtStandby");
        app.MapPost("/api/clusters/{id}/standbys", AddStandbyAsync).Needs(Roles.Administer).Computes().WithName("AddStandby");
        app.MapDelete("/api/clusters/{id}/standbys/{replica}", RemoveStandbyAsync).Needs(Roles.Administer).WithName("RemoveStandby");
        app.MapGet("/api/databases/{id}/commits", Commits).Needs(Roles.Look).Computes().WithName("Commits");
    }

    private static Ok<IReadOnlyList<ClusterView>> List(ClusterBook book, FleetState fleet) => TypedResults.Ok<IReadOnlyList<ClusterView>>(
    [
        .. book.All.Values.OrderBy(c => c.Database, StringComparer.Ordinal).Select(c =>
        {
            var now = book.ReceivedOf(c.Database);
            return new ClusterView(
                c.Database,
                fleet.Fleet.DatabaseById.TryGetValue(new(c.Database), out var d) ? d.Name : c.Database,
                c.UsualAddress,
                c.Port,
                c.User,
                c.Credential,
                c.LogStore,
                book.FolderOf(Data.FolderRow.OfStore, c.LogStore),
                c.LogRoomBytes,
                c.Slot,
                now?.At,
                now?.Timeline ?? 0,
                now is null ? null : new Lsn(now.Position).ToString(),
                now is null ? null : new Lsn(now.SourcePosition).ToString(),
                now is null ? 0 : Math.Max(0, now.SourcePosition - now.Position),
                now?.CoversTo,
                now?.KeptBytes ?? 0,
                now?.Problem,
                [.. c.Standbys.Select(s => new StandbyView(s.Replica, s.Address, s.Port))],
                c.Aside?.Run);
        }),
    ]);

    private static async Task<Ok<DiscoveredView>> LookAsync(ClusterAddress request, NewCluster clusters, CancellationToken cancel) => TypedResults.Ok(DiscoveredView.Of(
        await clusters.LookAsync(NewCluster.SpecOf("new", request.Address, request.Port, request.User, request.SignInTo, request.Credential, "none", null), cancel)));

    private static async Task<Created<DiscoveredView>> AddAsync(NewCluster.Request request, NewCluster clusters, ClaimsPrincipal user, CancellationToken cancel) =>
        TypedResults.Created($"/api/databases/{Uri.EscapeDataString(request.Database ?? "")}", DiscoveredView.Of(await clusters.AddAsync(request, user.Identity!.Name!, cancel)));

    private static async Task<Ok<Removed>> RemoveAsync(string id, NewCluster clusters, CancellationToken cancel) => TypedResults.Ok(new Removed(await clusters.RemoveAsync(id, cancel)));

    private static async Task<Ok<NewStandby.StandbyFound>> LookAtStandbyAsync(string id, NewStandby.StandbyRequest request, NewStandby standbys, CancellationToken cancel) => TypedResults.Ok(await standbys.LookAsync(id, request, cancel));

    private static async Task<Created<NewStandby.StandbyFound>> AddStandbyAsync(string id, NewStandby.StandbyRequest request, NewStandby standbys, ClaimsPrincipal user, CancellationToken cancel) =>
        TypedResults.Created($"/api/replicas/{Uri.EscapeDataString(request.Replica ?? "")}", await standbys.AddAsync(id, request, user.Identity!.Name!, cancel));

    private static async Task<NoContent> RemoveStandbyAsync(string id, string replica, NewStandby standbys, ClaimsPrincipal user, CancellationToken cancel)
    {
        await standbys.RemoveAsync(id, replica, user.Identity!.Name!, cancel);
        return TypedResults.NoContent();
    }

    /// <summary>Commits around an instant: read from the log in its store, wherever the cluster is by now. The nearest seconds first; further away only where those have too few.</summary>
    private static Ok<IReadOnlyList<CommitView>> Commits(string id, string at, int? take, ClusterBook book, FleetState fleet, CancellationToken cancel)
    {
        var wanted = Premise.ReadInstant("at", at);
        var most = Math.Clamp(take ?? 40, 1, MostCommits);
        if (!book.All.TryGetValue(id, out var cluster))
        {
            throw new BadInputException("database", $"'{id}' is no cluster whose log is received", 404, "not-found");
        }

        var found = new CommitsAround(wanted, most);
        try
        {
            var store = book.Store(new(cluster.LogStore));
            foreach (var around in Around)
            {
                found.Clear();
                BackupSet[] sets = [.. fleet[id].Subject.Catalogue.Sets.Where(s => s.Kind == SetKind.Log && s.CoversTo >= wanted - around && s.CoversFrom <= wanted + around && s.Copies.Any(c => c.Store.Value == cluster.LogStore && c.RemovedAt is null))];
                LogWalk.Over(store, cluster.Database, sets.OrderBy(s => s.Branch).ThenBy(s => s.ToPosition), found.Take, cancel);
                if (found.Enough || sets.Sum(s => s.DataBytes) > MostBytes)
                {
                    break;
                }
            }
        }
        catch (Exception e) when (e is LogBrokenException or DriverException or IOException)
        {
            throw new BadInputException("at", $"the log of that time cannot be read: {e.Message}", 409, "no-log");
        }

        return TypedResults.Ok<IReadOnlyList<CommitView>>(
        [
            .. found.All.Select(c => new CommitView(
                c.Position.Value,
                NodaTime.Text.InstantPattern.ExtendedIso.Format(c.At),
                Instant.FromUnixTimeMilliseconds((c.At.ToUnixTimeTicks() + NodaConstants.TicksPerMillisecond - 1) / NodaConstants.TicksPerMillisecond),
                c.Position.ToString(),
                c.Transaction,
                c.Name)),
        ]);
    }

    /// <summary>The nearest commits on either side of an instant.</summary>
    private sealed class CommitsAround(Instant wanted, int most)
    {
        private readonly Queue<Commit> before = [];
        private readonly List<Commit> after = [];

        public bool Enough => before.Count >= most;

        public IEnumerable<Commit> All => before.Concat(after);

        public void Clear()
        {
            before.Clear();
            after.Clear();
        }

        public void Take(Commit c)
        {
            if (c.At > wanted)
            {
                if (after.Count < most)
                {
                    after.Add(c);
                }

                return;
            }

            before.Enqueue(c);
            if (before.Count > most)
            {
                before.Dequeue();
            }
        }
    }
}
