using System.Text.Json.Nodes;
using Imbrek.Core.Changes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.Core.Runs;
using Imbrek.Data;
using Imbrek.PostgreSql.Serving;
using Imbrek.Server;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.State;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using Npgsql;

namespace Imbrek.Demo;

/// <summary>
/// A demo of real clusters: nothing in it is simulated. The script that starts it has made three small ones on loopback, and standbys of two of them; here they are added as anybody would add theirs, put under a plan of
/// minutes, and written to by <see cref="TrailWorkload"/>.
/// </summary>
internal sealed class ClusterDemo : IGuest
{
    private readonly string folder;
    private readonly IReadOnlyList<Made> clusters;

    /// <summary>Standbys that were made for the demo; the name of each begins with that of its cluster. They stand at the other site.</summary>
    private readonly IReadOnlyList<(string Name, int Port)> standbys;

    public ClusterDemo(string[] args)
    {
        var given = new ConfigurationBuilder().AddCommandLine(args).Build();
        folder = Path.GetFullPath(given["clusters-folder"] ?? throw new InvalidOperationException("--clusters-folder is missing"));
        clusters = [.. Named(given["clusters"]).Select(c => new Made(c.Name, c.Port))];
        standbys = [.. Named(given["standbys"])];
    }

    private static IEnumerable<(string Name, int Port)> Named(string? list) =>
        (list ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries).Select(c => c.Split('=')).Select(c => (c[0], int.Parse(c[1], System.Globalization.CultureInfo.InvariantCulture)));

    /// <summary>A cluster that was made for the demo.</summary>
    /// <param name="Name">Its name.</param>
    /// <param name="Port">Its port on loopback.</param>
    internal sealed record Made(string Name, int Port)
    {
        /// <summary>Where it stands: the last one on the hill, the others on the quay. Its backups lie at the other site.</summary>
        public (string Site, string Other) Places => Name == "crew" ? ("hill", "quay") : ("quay", "hill");
    }

    public bool IsDemo => true;

    public bool SetsThePace => false;

    public double Pace => 1;

    public bool Ready => true;

    /// <summary>Whether real clusters are to be shown.</summary>
    public static bool IsAskedFor(string[] args) => args.Contains("--clusters");

    public void Add(IServiceCollection services, bool describing)
    {
        services.AddSingleton(clusters);
        services.AddHostedService<TrailWorkload>();
    }

    public void Map(IEndpointRouteBuilder app)
    {
    }

    public async Task PrepareAsync(IServiceProvider services, NpgsqlDataSource source, Action<string> say, CancellationToken cancel)
    {
        await using var data = ImbrekDatabase.Context(source);
        if (await data.FleetVersions.AnyAsync(cancel))
        {
            return;
        }

        var (fleet, dispatcher, clock, adding) = (services.GetRequiredService<FleetState>(), services.GetRequiredService<Dispatcher>(), services.GetRequiredService<IClock>(), services.GetRequiredService<NewCluster>());
        await FleetParts.ChangeAsync(
            [
                FleetParts.Put("sites", "quay", new JsonObject { ["name"] = "Quay", ["timeZone"] = "Etc/UTC" }),
                FleetParts.Put("sites", "hill", new JsonObject { ["name"] = "Hill", ["timeZone"] = "Etc/UTC" }),
                FleetParts.Put("links", "quay|hill", new JsonObject { ["between"] = new JsonArray("quay", "hill"), ["bytesPerSecond"] = 100e6, ["roundTripMs"] = 1 }),
                FleetParts.Put("hosts", "bench", new JsonObject { ["site"] = "hill", ["writeBytesPerSecond"] = 100e6, ["addresses"] = new JsonArray("127.0.0.1") }),
                FleetParts.Put("objectives", "minutes", new JsonObject { ["name"] = "A minute and a half, back in ten", ["rpoSeconds"] = 90, ["rtoSeconds"] = 600, ["against"] = new JsonArray("host", "site"), ["proofDays"] = 1 }),
            ],
            null,
            "the demo begins",
            fleet,
            source,
            this,
            dispatcher,
            clock,
            "demo",
            null,
            cancel);
        foreach (var c in clusters)
        {
            say($"Adding cluster {c.Name}");
            await TrailWorkload.MakeAsync(c, cancel);
            var (site, other) = c.Places;
            await adding.AddAsync(
                new NewCluster.Request(
                    c.Name, char.ToUpperInvariant(c.Name[0]) + c.Name[1..], "127.0.0.1", c.Port, "keeper", "postgres", "keeper", site, $"{c.Name}-{site}", $"{other}-shelf", other, Path.Combine(folder, $"{other}-shelf"), $"{other}-spare", Path.Combine(folder, $"{other}-spare"), "minutes", 512 << 20, null),
                "demo",
                cancel);
            data.Folders.Add(EnginesOn($"{c.Name}-{site}"));
        }

        data.Changes.Add(new ChangeRow
        {
            Id = "by-time",
            Body = RunJson.Write(new Change(
                "Find a trail's commits by their time",
                fleet.Fleet.DatabaseById[new(clusters[0].Name)].Engine,
                true,
                [
                    new("column", null, ["alter table imbrek_trail add note text", "update imbrek_trail set note = 'walked' where n % 100 = 0"]),
                    new("index", null, ["create index imbrek_trail_at on imbrek_trail (at)"]),
                    new("statistics", null, ["vacuum analyze imbrek_trail"]),
                ],
                [new("last minute", "select count(*) >= 0 from imbrek_trail where at > now() - interval '1 minute'"), new("no gap in it", "select count(*) = max(n) from imbrek_trail")])),
            ChangedBy = "demo",
            ChangedAt = clock.GetCurrentInstant(),
        });
        foreach (var (site, other) in clusters.Select(c => c.Places).Distinct())
        {
            await PlanAsync(data, fleet.Fleet, clock.GetCurrentInstant(), site, other, cancel);
        }

        await fleet.LoadPlansAsync(cancel);
        foreach (var (name, port) in standbys)
        {
            say($"Adding standby {name}");
            var of = clusters.First(c => name.StartsWith(c.Name, StringComparison.Ordinal));
            await services.GetRequiredService<NewStandby>().AddAsync(of.Name, new NewStandby.StandbyRequest(name, "127.0.0.1", port, null, null, of.Places.Other, null, null, null), "demo", cancel);
            data.Folders.Add(EnginesOn(fleet.Fleet.Replicas[new(name)].Place.Hosts[0].Value));
        }

        await data.SaveChangesAsync(cancel);
        await services.GetRequiredService<ClusterBook>().LoadAsync(cancel);

        // Whoever was a primary can follow where it was: what stops with the demo is named so.
        FolderRow EnginesOn(string host) => new() { Kind = FolderRow.OfHost, Id = host, Folder = Directory.CreateDirectory(Path.Combine(folder, $"{host}-spare")).FullName };
    }

    /// <summary>A plan in minutes for the clusters of a site, and a first full of each at once.</summary>
    private async Task PlanAsync(ImbrekContext data, FleetModel fleet, Instant now, string site, string other, CancellationToken cancel)
    {
        Id<Core.Fleet.Store> shelf = new($"{other}-shelf");
        var plan = new Plan(
            new($"{site}-minutes"),
            $"Clusters on the {site}, by the minute",
            new Selection { Databases = [.. clusters.Where(c => c.Places.Site == site).Select(c => new Id<Database>(c.Name))] },
            [
                new PlanTask { Id = "full", Kind = TaskKind.Full, Recurrence = When("every 5 minutes"), Store = shelf, Keep = RetentionRule.For(Duration.FromMinutes(30)), TimeLimit = Duration.FromMinutes(4) },
                new PlanTask { Id = "log", Kind = TaskKind.Log, Recurrence = When("every 1 minutes"), Store = shelf, Keep = RetentionRule.For(Duration.FromMinutes(30)), Compression = Compression.Off, Attempts = 1 },
                new PlanTask { Id = "read back", Kind = TaskKind.Verify, Recurrence = When("every 10 minutes") },
                new PlanTask { Id = "clean up", Kind = TaskKind.CleanUp, Recurrence = When("every 10 minutes") },
                new PlanTask { Id = "rehearse", Kind = TaskKind.TestRestore, Recurrence = When("every 15 minutes"), TimeLimit = Duration.FromMinutes(5) },
            ],
            new TellRule(["database-team"], true, true, null, true));
        await PlanVersions.WriteAsync(data, fleet, plan, false, 0, "demo", now, cancel);
        foreach (var database in plan.Members.Databases)
        {
            data.Runs.Add(new RunRow
            {
                Id = TaskRun.IdOf(plan.Id, "full", database, now, null, "demo"),
                Plan = plan.Id.Value,
                Task = "full",
                Kind = PlanFile.Name(TaskKind.Full),
                Database = database.Value,
                Due = Instants.Floor(now),
                State = (short)RunState.Waiting,
                AskedBy = "demo",
            });
        }

        await data.SaveChangesAsync(cancel);

        static Recurrence When(string words) =>
            RecurrenceWords.TryParse(words, DateTimeZone.Utc, new LocalDate(2026, 1, 1), out var recurrence, out var error) ? recurrence! : throw new InvalidOperationException(error);
    }
}
