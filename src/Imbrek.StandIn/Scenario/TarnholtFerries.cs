using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>
/// Tarnholt Ferries, a made-up operator of island ferries: twelve services, 48 databases, sites Quayside, Hillhouse,
/// Northlight and Outer Skerry, and the troubles that the demo is to show, each caused in the world.
/// </summary>
public static class TarnholtFerries
{
    private const long GB = 1_000_000_000;
    private const long MB = 1_000_000;
    private static readonly DateTimeZone Zone = DateTimeZoneProviders.Tzdb["Europe/Oslo"];

    /// <summary>What the bad change calls itself: the timetable import of Monday 07:40 that cancels 312 sailings.</summary>
    public const string BadChange = "timetable import cancels 312 sailings";

    /// <summary>The database that the bad change hits.</summary>
    public const string BadChangeDatabase = "harbour-sailings";

    private sealed record Row(string Id, string Name, string Service, string Engine, string Host, string[] RecoveryHosts, string Tier, double SizeGB, string Kept, double RehearsedDaysAgo = 0);

    /// <summary>The script of a history that ends now.</summary>
    /// <param name="now">The instant that becomes "now".</param>
    /// <param name="days">How many days of history; less than 35 shows less, which is enough for tests.</param>
    /// <param name="seed">The seed of all that is drawn.</param>
    public static WorldScript Create(Instant now, int days = 35, ulong seed = 20_261)
    {
        var begins = Zone.AtStartOfDay(now.InZone(Zone).Date.PlusDays(-days)).ToInstant();
        var badAt = LastMonday0740(now);
        var fleet = Fleet();
        var scripts = Rows().Select(r => Script(r, badAt, days)).ToArray();
        var fares = Series.Of(fleet).Single(s => s.Database.Id.Value == "fares-tariffs" && s.Task.Kind == TaskKind.Verify);
        return new WorldScript(
            fleet,
            seed,
            begins,
            now,
            scripts,
            [
                new(BusyMorning(now, fleet), w => w.Faults.DropLog(new("cargo-manifests"))),
                new(LastVerify(now, fares) - Duration.FromHours(2), w => w.Faults.DamageNewestFull(new("fares-tariffs"))),
                new(now - Duration.FromHours(50), w => w.Faults.SetRefused(new("notice-archive"), true)),
                .. TarnholtReplicas.Troubles(now),
            ],
            [new("Timetable import cancels 312 sailings", badAt, new(BadChangeDatabase))])
        {
            Drills = [.. TarnholtReplicas.Drills(now).Where(d => d.At - Duration.FromDays(1) > begins)],
            Neighbours =
            [
                new(new("quay-h2"), "kiosk_pilot", new("stream-log"), "14", 38 * GB),
                new(new("hill-h2"), "audit_2024", new("export-only"), "13", 210 * GB, MayBeSeen: false),
            ],
            GrownBy = new Dictionary<Id<Database>, double> { [new("voyage-log")] = 1.7 },
        };
    }

    private static Instant LastMonday0740(Instant now)
    {
        var day = now.InZone(Zone).Date;
        while (true)
        {
            var at = day.At(new LocalTime(7, 40)).InZoneLeniently(Zone).ToInstant();
            if (day.DayOfWeek == IsoDayOfWeek.Monday && at < now)
            {
                return at;
            }

            day = day.PlusDays(-1);
        }
    }

    /// <summary>Four minutes after a log backup of a busy morning, a day ago or nearly two: log is sure to be lost, and a state since has closed the hole.</summary>
    private static Instant BusyMorning(Instant now, FleetModel fleet)
    {
        var day = (now - Duration.FromHours(20)).InUtc();
        var ten = day.Date.PlusDays(day.Hour >= 10 ? 0 : -1).At(new LocalTime(10, 0)).InUtc().ToInstant();
        var log = Series.Of(fleet).Single(s => s.Database.Id.Value == "cargo-manifests" && s.Task.Kind == TaskKind.Log);
        return Instant.FromUnixTimeMilliseconds(log.LastBefore(ten.ToUnixTimeMilliseconds(), 86_400_000L)!.Value) + Duration.FromMinutes(4);
    }

    /// <summary>The last time before now, by a margin, that copies were read back.</summary>
    private static Instant LastVerify(Instant now, Series verify) =>
        Instant.FromUnixTimeMilliseconds(verify.LastBefore((now - Duration.FromHours(1)).ToUnixTimeMilliseconds(), 8 * 86_400_000L)!.Value);

    private static FleetModel Fleet()
    {
        Id<EngineProfile> chain = new("chain-log"), stream = new("stream-log"), export = new("export-only"), managed = new("managed");
        Id<EngineProfile> array = new("array-backed"), mirrored = new("mirrored-file");
        return new FleetModel(
            [new(new("quayside"), "Quayside", "Europe/Oslo"), new(new("hillhouse"), "Hillhouse", "Europe/Oslo"), new(new("northlight"), "Northlight", "Europe/Oslo"), new(new("skerry"), "Outer Skerry", "Europe/Oslo")],
            [
                new(new("quayside"), new("hillhouse"), 250 * MB, 1.8),
                new(new("quayside"), new("northlight"), 110 * MB, 13.5),
                new(new("hillhouse"), new("northlight"), 110 * MB, 12.9),
                new(new("hillhouse"), new("skerry"), 112_000, 38),
            ],
            [new(new("quay-a1"), new("quayside")), new(new("quay-a2"), new("quayside")), new(new("hill-a1"), new("hillhouse"))],
            [
                Host("quay-h1", "quayside", "quay-a1", 420, 3000, [chain, mirrored]),
                Host("quay-h2", "quayside", "quay-a1", 420, 2500, [chain, stream]),
                Host("quay-h3", "quayside", "quay-a2", 380, 6500, [chain, export, array, mirrored]),
                Host("quay-h4", "quayside", null, 520, 4000, [chain, stream, export, array, mirrored]),
                Host("quay-m1", "quayside", null, 450, 4000, [managed]),
                Host("hill-h1", "hillhouse", "hill-a1", 420, 4500, [chain, stream, array]),
                Host("hill-h2", "hillhouse", null, 420, 8000, [chain, stream, export, array, mirrored]),
                Host("hill-m1", "hillhouse", null, 450, 4000, [managed]),
                Host("north-h1", "northlight", null, 420, 3000, [chain]),
                Host("skerry-h1", "skerry", null, 420, 500, [chain]),
            ],
            [
                Store("quay-s1", "quayside", "quay-a1", false, 350, 300),
                Store("quay-s2", "quayside", null, false, 500, 450),
                Store("hill-s1", "hillhouse", null, false, 420, 380),
                Store("north-o1", "northlight", null, false, 160, 140),
                Store("north-t1", "northlight", null, true, 120, 120),
            ],
            [
                new(chain, "Chain-log engine", 45, 2, 380 * MB, 120 * MB, 45 * MB, 20, [SetKind.Full, SetKind.Differential, SetKind.Log], MountsSets: true) { MoveNeeds = [new(Tracking, "on")] },
                new(stream, "Stream-log engine", 30, 1, 420 * MB, 90 * MB, 50 * MB, 15, [SetKind.Full, SetKind.Incremental, SetKind.Log]),
                new(export, "Export-only engine", 20, 3, 260 * MB, 40 * MB, 60 * MB, 10, [SetKind.Export]) { LoadNeeds = [new(Loading, "on")] },
                new(managed, "Managed engine", 240, 1, 500 * MB, 100 * MB, 50 * MB, 60, [SetKind.Snapshot, SetKind.Log]),
                new(array, "Array-backed engine", 45, 2, 380 * MB, 120 * MB, 45 * MB, 20, [SetKind.Full, SetKind.Differential, SetKind.Log, SetKind.Snapshot], MountsSets: true),
                new(mirrored, "Mirrored-file engine", 25, 3, 240 * MB, 60 * MB, 40 * MB, 15, [SetKind.Full, SetKind.Differential, SetKind.Log, SetKind.Export]) { LoadNeeds = [new(Loading, "on")] },
            ],
            [
                Objective("gate", "Gates: 30 s, back in 5 min", 30, 300, [LossKind.None, LossKind.Host, LossKind.Site], 60, "head of gates", "boarding waits for nobody"),
                Objective("counter", "Counters: 15 min, back in 1 h", 900, 3600, [LossKind.None, LossKind.Host, LossKind.Array, LossKind.Site], 60, "head of ticketing", "what was sold in a quarter of an hour can be read off the printers"),
                Objective("office", "Offices: 1 h, back in 4 h", 3600, 4 * 3600, [LossKind.None, LossKind.Host, LossKind.Site], 90, "head of platform", "an hour can be typed again"),
                Objective("daily", "Daily: 26 h, back in 12 h", 26 * 3600, 12 * 3600, [LossKind.None, LossKind.Host, LossKind.Site], 120, "head of platform", "it is made anew every night"),
                Objective("archive", "Archive: 8 days, back in 3 days", 8 * 86400, 3 * 86400, [LossKind.None, LossKind.Site, LossKind.Hostile], 180, "keeper of records", "nobody asks for it within days"),
                Objective("money", "Money: 1 h, back in 4 h, deletion too", 3600, 4 * 3600, [LossKind.None, LossKind.Host, LossKind.Site, LossKind.Hostile], 20, "treasurer", "the auditors ask for it"),
            ],
            Services,
            [.. Rows().Select(Database)],
            TarnholtReplicas.All,
            TarnholtReplicas.Groups).WithPlans(TarnholtPlans.All(Zone));

        static Host Host(string id, string site, string? array, long mb, long gb, Id<EngineProfile>[] engines) =>
            new(new(id), new(site), array is null ? null : new Id<StorageArray>(array), mb * MB, gb * GB, engines, ["14", "15"], [id == "quay-h4" ? "tarnholt-2019" : TarnholtPlans.Key], id == "quay-h3" ? 3 : 4, 8)
            {
                // Hillhouse's second host is where projects try things out: more get in there, and its disks are not encrypted.
                OpenTo = id == "hill-h2" ? ["counters", "offices", "projects"] : ["counters", "offices"],
                SignsIn = id == "hill-h2" ? ["tarnholt services", "tarnholt administrators", "contractors"] : ["tarnholt services", "tarnholt administrators"],
                Encrypted = id != "hill-h2",

                // Nothing is loaded where projects are by oversight; and what the big host changes was never tracked.
                Settings = [new(Loading, id == "hill-h2" ? "off" : "on"), new(Tracking, id == "quay-h3" ? "off" : "on")],
            };

        static Store Store(string id, string site, string? array, bool offline, long read, long write) =>
            new(new(id), new(site), array is null ? null : new Id<StorageArray>(array), null, offline, read * MB, write * MB, null, CapacityGB(id) * GB, id == "north-o1");

        static Objective Objective(string id, string name, double rpo, double rto, LossKind[] against, double days, string owner, string reason) =>
            new(new(id), name, rpo, rto, against, days, owner, reason);
    }

    /// <summary>Settings of hosts that some ways need.</summary>
    private const string Loading = "bulk loading", Tracking = "change tracking";

    /// <summary>How much each store holds; Hillhouse's fills up in the weeks to come.</summary>
    private static long CapacityGB(string store) => store switch { "quay-s1" => 9_000, "quay-s2" => 90_000, "hill-s1" => 43_000, _ => 120_000 };

    private static readonly Service[] Services =
    [
        new(new("ticketing"), "Ticketing", "Sales desk"),
        new(new("gates"), "Boarding gates", "Terminal operations"),
        new(new("positions"), "Vessel positions", "Bridge systems"),
        new(new("cargo"), "Cargo manifests", "Freight"),
        new(new("crew"), "Crew roster", "Crewing"),
        new(new("tides"), "Harbour tides and sailings", "Port control"),
        new(new("fares"), "Fares and passes", "Revenue"),
        new(new("payroll"), "Payroll", "People office"),
        new(new("workshop"), "Workshop and spare parts", "Yard"),
        new(new("notices"), "Passenger notices", "Service desk"),
        new(new("web"), "Web site", "Digital"),
        new(new("planning"), "Planning archive", "Planning"),
        new(new("servers"), "Server data", "Database team"),
    ];

    private static Row[] Rows()
    {
        string[] chainHosts = ["quay-h4", "hill-h1", "hill-h2"], streamHosts = ["quay-h4", "hill-h1", "hill-h2"];
        string[] exportHosts = ["quay-h4", "hill-h2"], managedHosts = ["quay-m1", "hill-m1"], bigHosts = ["quay-h3", "hill-h2"];
        return
        [
            new("tickets", "Tickets", "ticketing", "chain-log", "quay-h1", chainHosts, "counter", 400, "counter", 12),
            new("ticket-payments", "Ticket payments", "ticketing", "chain-log", "quay-h1", chainHosts, "counter", 180, "counter", 12),
            new("ticket-refunds", "Ticket refunds", "ticketing", "chain-log", "quay-h1", chainHosts, "office", 60, "office", 26),
            new("ticket-reports", "Ticket reports", "ticketing", "stream-log", "quay-h2", streamHosts, "daily", 300, "full-only", 0),
            new("gate-scans", "Gate scans", "gates", "stream-log", "quay-h2", streamHosts, "gate", 40, "gate", 5),
            new("gate-passes", "Gate pass cache", "gates", "stream-log", "quay-h2", streamHosts, "gate", 12, "gate", 5),
            new("gate-devices", "Gate devices", "gates", "chain-log", "quay-h1", chainHosts, "office", 8, "office", 19),
            new("gate-audit", "Gate audit", "gates", "chain-log", "quay-h1", chainHosts, "office", 150, "office", 19),
            new("ais-tracks", "Vessel tracks", "positions", "stream-log", "quay-h2", streamHosts, "counter", 640, "stream", 9),
            new("ais-live", "Live positions", "positions", "stream-log", "quay-h2", streamHosts, "counter", 18, "stream", 10),
            new("voyage-log", "Voyage log", "positions", "stream-log", "quay-h2", streamHosts, "office", 90, "stream", 22),
            new("engine-telemetry", "Engine telemetry", "positions", "export-only", "quay-h3", exportHosts, "daily", 520, "export", 21),
            new("cargo-manifests", "Cargo manifests", "cargo", "chain-log", "quay-h1", chainHosts, "counter", 230, "counter", 15),
            new("cargo-customs", "Customs papers", "cargo", "chain-log", "quay-h1", chainHosts, "office", 110, "office", 15),
            new("cargo-weights", "Weighbridge", "cargo", "mirrored-file", "quay-h3", exportHosts, "office", 24, "office", 0),
            new("cargo-dangerous", "Dangerous goods", "cargo", "chain-log", "quay-h1", chainHosts, "office", 6, "office", 22),
            new("crew-roster", "Crew roster", "crew", "array-backed", "quay-h3", chainHosts, "office", 35, "office", 13),
            new("crew-certificates", "Crew certificates", "crew", "array-backed", "quay-h3", chainHosts, "office", 14, "office", 13),
            new("crew-hours", "Crew hours", "crew", "array-backed", "quay-h3", chainHosts, "office", 48, "hours", 24),
            new("crew-training", "Crew training", "crew", "managed", "quay-m1", managedHosts, "daily", 22, "managed", 27),
            new("harbour-tides", "Harbour tides", "tides", "stream-log", "quay-h2", streamHosts, "office", 16, "stream", 8),
            new(BadChangeDatabase, "Harbour sailings", "tides", "chain-log", "quay-h1", chainHosts, "counter", 75, "counter", 8),
            new("berth-plan", "Berth plan", "tides", "chain-log", "quay-h1", chainHosts, "office", 20, "office", 18),
            new("weather-obs", "Weather observations", "tides", "export-only", "quay-h3", exportHosts, "daily", 130, "export", 17),
            new("fares-tariffs", "Fares and tariffs", "fares", "chain-log", "quay-h1", chainHosts, "office", 28, "office", 16),
            new("passes", "Season passes", "fares", "chain-log", "quay-h1", chainHosts, "counter", 95, "counter", 11),
            new("pass-photos", "Pass photos", "fares", "export-only", "quay-h3", exportHosts, "daily", 380, "export", 0),
            new("vouchers", "Vouchers", "fares", "managed", "quay-m1", managedHosts, "office", 12, "managed", 10),
            new("payroll", "Payroll", "payroll", "chain-log", "quay-h3", chainHosts, "money", 85, "money", 6),
            new("pensions", "Pensions", "payroll", "chain-log", "quay-h3", chainHosts, "money", 40, "money", 25),
            new("expenses", "Expenses", "payroll", "managed", "quay-m1", managedHosts, "office", 26, "managed", 14),
            new("timesheets", "Time sheets", "payroll", "managed", "quay-m1", managedHosts, "office", 30, "managed", 14),
            new("spare-parts", "Spare parts", "workshop", "chain-log", "quay-h1", chainHosts, "office", 65, "workshop", 20),
            new("work-orders", "Work orders", "workshop", "chain-log", "quay-h1", chainHosts, "office", 55, "workshop", 20),
            new("dry-dock", "Dry dock plans", "workshop", "chain-log", "quay-h1", chainHosts, "daily", 140, "office", 23),
            new("paint-shop", "Paint shop", "workshop", "chain-log", "quay-h1", chainHosts, "daily", 2, ""),
            new("notices", "Passenger notices", "notices", "managed", "hill-m1", managedHosts, "office", 9, "managed", 7),
            new("sms-queue", "Message queue", "notices", "stream-log", "quay-h2", streamHosts, "office", 7, "stream", 7),
            new("notice-archive", "Notice archive", "notices", "export-only", "quay-h3", exportHosts, "daily", 70, "export", 28),
            new("call-centre", "Call centre", "notices", "chain-log", "quay-h3", chainHosts, "office", 120, "calls", 25),
            new("web-content", "Web content", "web", "managed", "hill-m1", managedHosts, "daily", 45, "managed", 29),
            new("web-bookings", "Web bookings", "web", "stream-log", "quay-h2", streamHosts, "counter", 160, "stream", 4),
            new("web-sessions", "Web sessions", "web", "managed", "hill-m1", managedHosts, "daily", 15, "managed", 29),
            new("web-search", "Search index source", "web", "export-only", "quay-h3", exportHosts, "daily", 210, "export", 0),
            new("plan-archive", "Planning archive", "planning", "export-only", "quay-h3", bigHosts, "archive", 6000, "archive", 20),
            new("plan-scenarios", "Planning scenarios", "planning", "chain-log", "quay-h3", chainHosts, "daily", 260, "office", 28),
            new("passenger-counts", "Passenger counts", "planning", "export-only", "quay-h3", exportHosts, "daily", 340, "export", 33),
            new("survey-results", "Survey results", "planning", "managed", "quay-m1", managedHosts, "daily", 11, "managed", 33),
            new("quay-h1-server", "Server data of quay-h1", "servers", "chain-log", "quay-h1", chainHosts, "office", 2, ""),
            new("quay-h2-server", "Server data of quay-h2", "servers", "stream-log", "quay-h2", streamHosts, "office", 2, "stream"),
            new("quay-h3-server", "Server data of quay-h3", "servers", "chain-log", "quay-h3", chainHosts, "office", 2, "office"),
        ];
    }

    private static Database Database(Row r) => new()
    {
        Id = new(r.Id),
        Name = r.Name,
        Engine = new(r.Engine),
        Host = new(r.Host),
        RecoveryHosts = [.. r.RecoveryHosts.Where(h => h != r.Host).Select(h => new Id<Host>(h))],
        Objective = new(r.Tier),
        Service = new(r.Service),
        SizeBytes = (long)(r.SizeGB * GB),
        LogMode = r.Kept == "hours" ? LogMode.Discarded : LogMode.Kept,
        Version = r.Engine == "managed" ? "15" : "14",
        DetectSeconds = 60,
        DecideSeconds = r.Tier == "gate" ? 60 : 180,
        CheckSeconds = r.Tier == "gate" ? 40 : 180,
        RedirectSeconds = r.Tier == "gate" ? 10 : 30,
        Holds = r.Service == "servers" ? [InstancePart.Accounts, InstancePart.Jobs, InstancePart.Keys, InstancePart.Settings] : [],
        Tags = r.Kept.Length == 0 ? [r.Tier] : [r.Tier, "kept as " + r.Kept],
        GrowthBytesPerDay = GrowthGB(r.Id) * GB,
        ChangeBytesPerDay = r.Id == "plan-archive" ? ArchiveRewritesGB * GB : null,
        LogBytesPerSecond = LogRate(r),
        LogByHour = TransactionStream.FactorByHour,
    };

    private static DatabaseScript Script(Row r, Instant badAt, int days)
    {
        var pages = (int)Math.Clamp(96 + (r.SizeGB / 2), 96, 400);
        var busy = r.Tier switch { "gate" => 3.0, "counter" => 2.0, "office" or "money" => 0.8, _ => 0.3 };
        List<NamedChange> changes = [];
        if (r.Id == BadChangeDatabase)
        {
            var bad = badAt.ToUnixTimeMilliseconds();
            changes =
            [
                new("evening close " + Zone.Id, bad - (11 * 3_600_000L), 0),
                new("first departure", bad - (95 * 60_000L), 0),
                new(BadChange, bad, 312),
            ];
        }

        return new DatabaseScript(
            new(r.Id),
            pages,
            busy,
            LogRate(r),
            changes,
            r.RehearsedDaysAgo > 0 && r.RehearsedDaysAgo < days ? [r.RehearsedDaysAgo] : [])
        {
            // Pictures and scans are packed already; figures and text shrink further than the profile says.
            Packs = r.Id switch { "pass-photos" => 2.2, "gate-scans" => 1.7, "call-centre" => 1, _ => 0.8 + (0.4 * Draw.Unit(Draw.Of(0, r.Id), 1)) },
        };
    }

    private static double LogRate(Row r) => Math.Max(20_000, r.SizeGB * 900);

    /// <summary>What the planning archive rewrites of itself in a day, when scenarios are computed anew: its move never gets done at a polite rate.</summary>
    private const double ArchiveRewritesGB = 4_900;

    private static double GrowthGB(string database) => database switch { "call-centre" => 1.5, "passenger-counts" => 7, "pass-photos" => 8, "web-search" => 4, "plan-archive" => 20, _ => 0 };
}
