using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.StandIn.Engine;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>
/// Tarnholt Ferries, a made-up operator of island ferries: twelve services, 48 databases, sites Quayside, Hillhouse and
/// Northlight, and the troubles that the demo is to show, each caused in the world.
/// </summary>
public static class TarnholtFerries
{
    private const long GB = 1_000_000_000;
    private const long MB = 1_000_000;
    private static readonly Duration Month = Duration.FromDays(28);
    private static readonly Duration Fortnight = Duration.FromDays(14);
    private static readonly DateTimeZone Zone = DateTimeZoneProviders.Tzdb["Europe/Oslo"];

    /// <summary>What the bad change calls itself: the timetable import of Monday 07:40 that cancels 312 sailings.</summary>
    public const string BadChange = "timetable import cancels 312 sailings";

    /// <summary>The database that the bad change hits.</summary>
    public const string BadChangeDatabase = "harbour-sailings";

    /// <summary>How a database is protected; each is a fixed list of tasks until plans are made in the product.</summary>
    private enum Way
    {
        Gate, Counter, Office, OnSameArray, LogDiscarded, Stream, Export, Managed, Archive, Locked, None, FullOnly,
    }

    private sealed record Row(string Id, string Name, string Service, string Engine, string Host, string[] RecoveryHosts, string Tier, double SizeGB, Way Way, double RehearsedDaysAgo = 0);

    /// <summary>The script of a history that ends now.</summary>
    /// <param name="now">The instant that becomes "now".</param>
    /// <param name="days">How many days of history; less than 35 shows less, which is enough for tests.</param>
    /// <param name="seed">The seed of all that is drawn.</param>
    public static WorldScript Create(Instant now, int days = 35, ulong seed = 20_261)
    {
        var begins = Zone.AtStartOfDay(now.InZone(Zone).Date.PlusDays(-days)).ToInstant();
        var badAt = LastMonday0740(now);
        var fleet = Fleet();
        var scripts = Rows().Select((r, i) => Script(r, i, badAt, days)).ToArray();
        var fares = Array.Find(scripts, s => s.Id.Value == "fares-tariffs")!.Verify!;
        return new WorldScript(
            fleet,
            seed,
            begins,
            now,
            scripts,
            [
                new(now - Duration.FromHours(29), new("cargo-manifests"), ScriptedTrouble.What.DropLog),
                new(LastVerify(now, fares) - Duration.FromHours(2), new("fares-tariffs"), ScriptedTrouble.What.DamageNewestFull),
            ],
            [new("Timetable import cancels 312 sailings", badAt, new(BadChangeDatabase))]);
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

    /// <summary>The last time before now, by a margin, that copies were read back.</summary>
    private static Instant LastVerify(Instant now, Cadence verify)
    {
        var last = verify.NextAfter(now - Duration.FromDays(8));
        for (var next = last; next < now - Duration.FromHours(1); next = verify.NextAfter(next))
        {
            last = next;
        }

        return last;
    }

    private static FleetModel Fleet()
    {
        Id<EngineProfile> chain = new("chain-log"), stream = new("stream-log"), export = new("export-only"), managed = new("managed");
        return new FleetModel(
            [new(new("quayside"), "Quayside", "Europe/Oslo"), new(new("hillhouse"), "Hillhouse", "Europe/Oslo"), new(new("northlight"), "Northlight", "Europe/Oslo")],
            [
                new(new("quayside"), new("hillhouse"), 250 * MB, 1.8),
                new(new("quayside"), new("northlight"), 110 * MB, 13.5),
                new(new("hillhouse"), new("northlight"), 110 * MB, 12.9),
            ],
            [new(new("quay-a1"), new("quayside")), new(new("quay-a2"), new("quayside")), new(new("hill-a1"), new("hillhouse"))],
            [
                Host("quay-h1", "quayside", "quay-a1", 420, 3000, [chain]),
                Host("quay-h2", "quayside", "quay-a1", 420, 2500, [chain, stream]),
                Host("quay-h3", "quayside", "quay-a2", 380, 6500, [chain, export]),
                Host("quay-h4", "quayside", null, 520, 4000, [chain, stream, export]),
                Host("quay-m1", "quayside", null, 450, 4000, [managed]),
                Host("hill-h1", "hillhouse", "hill-a1", 380, 4500, [chain, stream]),
                Host("hill-h2", "hillhouse", null, 360, 8000, [chain, stream, export]),
                Host("hill-m1", "hillhouse", null, 400, 4000, [managed]),
            ],
            [
                Store("quay-s1", "quayside", "quay-a1", false, 350, 300),
                Store("quay-s2", "quayside", null, false, 500, 450),
                Store("hill-s1", "hillhouse", null, false, 420, 380),
                Store("north-o1", "northlight", null, false, 160, 140),
                Store("north-t1", "northlight", null, true, 120, 120),
            ],
            [
                new(chain, "Chain-log engine", 45, 2, 380 * MB, 120 * MB, 45 * MB, 20),
                new(stream, "Stream-log engine", 30, 1, 420 * MB, 90 * MB, 50 * MB, 15),
                new(export, "Export-only engine", 20, 3, 260 * MB, 40 * MB, 60 * MB, 10),
                new(managed, "Managed engine", 240, 1, 500 * MB, 100 * MB, 50 * MB, 60),
            ],
            [
                Objective("gate", "Gates: 5 min, back in 30 min", 300, 1800, [LossKind.None, LossKind.Host, LossKind.Site], 60),
                Objective("counter", "Counters: 15 min, back in 1 h", 900, 3600, [LossKind.None, LossKind.Host, LossKind.Array, LossKind.Site], 60),
                Objective("office", "Offices: 1 h, back in 4 h", 3600, 4 * 3600, [LossKind.None, LossKind.Host, LossKind.Site], 90),
                Objective("daily", "Daily: 26 h, back in 12 h", 26 * 3600, 12 * 3600, [LossKind.None, LossKind.Host, LossKind.Site], 120),
                Objective("archive", "Archive: 8 days, back in 3 days", 8 * 86400, 3 * 86400, [LossKind.None, LossKind.Site, LossKind.Hostile], 180),
                Objective("money", "Money: 1 h, back in 4 h, deletion too", 3600, 4 * 3600, [LossKind.None, LossKind.Host, LossKind.Site, LossKind.Hostile], 20),
            ],
            Services,
            [.. Rows().Select(Database)]);

        static Host Host(string id, string site, string? array, long mb, long gb, Id<EngineProfile>[] engines) =>
            new(new(id), new(site), array is null ? null : new Id<StorageArray>(array), mb * MB, gb * GB, engines, ["14", "15"], id == "quay-h4" ? [] : ["tarnholt-2026"]);

        static Store Store(string id, string site, string? array, bool offline, long read, long write) =>
            new(new(id), new(site), array is null ? null : new Id<StorageArray>(array), null, offline, read * MB, write * MB);

        static Objective Objective(string id, string name, double rpo, double rto, LossKind[] against, double days) =>
            new(new(id), name, rpo, rto, against, days);
    }

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
    ];

    private static Row[] Rows()
    {
        string[] chainHosts = ["quay-h4", "hill-h1", "hill-h2"], streamHosts = ["quay-h4", "hill-h1", "hill-h2"];
        string[] exportHosts = ["quay-h4", "hill-h2"], managedHosts = ["quay-m1", "hill-m1"], bigHosts = ["quay-h3", "hill-h2"];
        return
        [
            new("tickets", "Tickets", "ticketing", "chain-log", "quay-h1", chainHosts, "counter", 420, Way.Counter, 12),
            new("ticket-payments", "Ticket payments", "ticketing", "chain-log", "quay-h1", chainHosts, "counter", 180, Way.Counter, 12),
            new("ticket-refunds", "Ticket refunds", "ticketing", "chain-log", "quay-h1", chainHosts, "office", 60, Way.Office, 26),
            new("ticket-reports", "Ticket reports", "ticketing", "stream-log", "quay-h2", streamHosts, "daily", 300, Way.FullOnly, 0),
            new("gate-scans", "Gate scans", "gates", "stream-log", "quay-h2", streamHosts, "gate", 40, Way.Gate, 5),
            new("gate-passes", "Gate pass cache", "gates", "stream-log", "quay-h2", streamHosts, "gate", 12, Way.Gate, 5),
            new("gate-devices", "Gate devices", "gates", "chain-log", "quay-h1", chainHosts, "office", 8, Way.Office, 19),
            new("gate-audit", "Gate audit", "gates", "chain-log", "quay-h1", chainHosts, "office", 150, Way.Office, 19),
            new("ais-tracks", "Vessel tracks", "positions", "stream-log", "quay-h2", streamHosts, "counter", 640, Way.Stream, 9),
            new("ais-live", "Live positions", "positions", "stream-log", "quay-h2", streamHosts, "counter", 18, Way.Stream, 10),
            new("voyage-log", "Voyage log", "positions", "stream-log", "quay-h2", streamHosts, "office", 90, Way.Stream, 22),
            new("engine-telemetry", "Engine telemetry", "positions", "export-only", "quay-h3", exportHosts, "daily", 520, Way.Export, 21),
            new("cargo-manifests", "Cargo manifests", "cargo", "chain-log", "quay-h1", chainHosts, "counter", 230, Way.Counter, 15),
            new("cargo-customs", "Customs papers", "cargo", "chain-log", "quay-h1", chainHosts, "office", 110, Way.Office, 15),
            new("cargo-weights", "Weighbridge", "cargo", "chain-log", "quay-h3", chainHosts, "office", 24, Way.Office, 0),
            new("cargo-dangerous", "Dangerous goods", "cargo", "chain-log", "quay-h1", chainHosts, "office", 6, Way.Office, 22),
            new("crew-roster", "Crew roster", "crew", "chain-log", "quay-h3", chainHosts, "office", 35, Way.Office, 13),
            new("crew-certificates", "Crew certificates", "crew", "chain-log", "quay-h3", chainHosts, "office", 14, Way.Office, 13),
            new("crew-hours", "Crew hours", "crew", "chain-log", "quay-h3", chainHosts, "office", 48, Way.LogDiscarded, 24),
            new("crew-training", "Crew training", "crew", "managed", "quay-m1", managedHosts, "daily", 22, Way.Managed, 27),
            new("harbour-tides", "Harbour tides", "tides", "stream-log", "quay-h2", streamHosts, "office", 16, Way.Stream, 8),
            new(BadChangeDatabase, "Harbour sailings", "tides", "chain-log", "quay-h1", chainHosts, "counter", 75, Way.Counter, 8),
            new("berth-plan", "Berth plan", "tides", "chain-log", "quay-h1", chainHosts, "office", 20, Way.Office, 18),
            new("weather-obs", "Weather observations", "tides", "export-only", "quay-h3", exportHosts, "daily", 130, Way.Export, 17),
            new("fares-tariffs", "Fares and tariffs", "fares", "chain-log", "quay-h1", chainHosts, "office", 28, Way.Office, 16),
            new("passes", "Season passes", "fares", "chain-log", "quay-h1", chainHosts, "counter", 95, Way.Counter, 11),
            new("pass-photos", "Pass photos", "fares", "export-only", "quay-h3", exportHosts, "daily", 380, Way.Export, 0),
            new("vouchers", "Vouchers", "fares", "managed", "quay-m1", managedHosts, "office", 12, Way.Managed, 10),
            new("payroll", "Payroll", "payroll", "chain-log", "quay-h3", chainHosts, "money", 85, Way.Locked, 6),
            new("pensions", "Pensions", "payroll", "chain-log", "quay-h3", chainHosts, "money", 40, Way.Locked, 25),
            new("expenses", "Expenses", "payroll", "managed", "quay-m1", managedHosts, "office", 26, Way.Managed, 14),
            new("timesheets", "Time sheets", "payroll", "managed", "quay-m1", managedHosts, "office", 30, Way.Managed, 14),
            new("spare-parts", "Spare parts", "workshop", "chain-log", "quay-h1", chainHosts, "office", 65, Way.OnSameArray, 20),
            new("work-orders", "Work orders", "workshop", "chain-log", "quay-h1", chainHosts, "office", 55, Way.OnSameArray, 20),
            new("dry-dock", "Dry dock plans", "workshop", "chain-log", "quay-h1", chainHosts, "daily", 140, Way.Office, 23),
            new("paint-shop", "Paint shop", "workshop", "chain-log", "quay-h1", chainHosts, "daily", 2, Way.None),
            new("notices", "Passenger notices", "notices", "managed", "hill-m1", managedHosts, "office", 9, Way.Managed, 7),
            new("sms-queue", "Message queue", "notices", "stream-log", "quay-h2", streamHosts, "office", 7, Way.Stream, 7),
            new("notice-archive", "Notice archive", "notices", "export-only", "quay-h3", exportHosts, "daily", 70, Way.Export, 28),
            new("call-centre", "Call centre", "notices", "chain-log", "quay-h3", chainHosts, "office", 120, Way.Office, 25),
            new("web-content", "Web content", "web", "managed", "hill-m1", managedHosts, "daily", 45, Way.Managed, 29),
            new("web-bookings", "Web bookings", "web", "stream-log", "quay-h2", streamHosts, "counter", 160, Way.Stream, 4),
            new("web-sessions", "Web sessions", "web", "managed", "hill-m1", managedHosts, "daily", 15, Way.Managed, 29),
            new("web-search", "Search index source", "web", "export-only", "quay-h3", exportHosts, "daily", 210, Way.Export, 0),
            new("plan-archive", "Planning archive", "planning", "export-only", "quay-h3", bigHosts, "archive", 6000, Way.Archive, 20),
            new("plan-scenarios", "Planning scenarios", "planning", "chain-log", "quay-h3", chainHosts, "daily", 260, Way.Office, 28),
            new("passenger-counts", "Passenger counts", "planning", "export-only", "quay-h3", exportHosts, "daily", 340, Way.Export, 33),
            new("survey-results", "Survey results", "planning", "managed", "quay-m1", managedHosts, "daily", 11, Way.Managed, 33),
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
        LogMode = r.Way == Way.LogDiscarded ? LogMode.Discarded : LogMode.Kept,
        Version = r.Engine == "managed" ? "15" : "14",
        Key = r.Way == Way.Locked ? "tarnholt-2026" : null,
        DetectSeconds = 60,
        DecideSeconds = r.Tier == "gate" ? 60 : 180,
        CheckSeconds = r.Tier == "gate" ? 60 : 180,
        RedirectSeconds = 30,
        Tags = [r.Tier],
    };

    private static DatabaseScript Script(Row r, int number, Instant badAt, int days)
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
            Math.Max(20_000, r.SizeGB * 900),
            Tasks(r, number),
            changes,
            new Cadence.At(new LocalTime(13, number % 60), Zone, [IsoDayOfWeek.Sunday, IsoDayOfWeek.Wednesday]),
            r.RehearsedDaysAgo > 0 && r.RehearsedDaysAgo < days ? [r.RehearsedDaysAgo] : []);
    }

    private static TaskScript[] Tasks(Row r, int number)
    {
        Id<Store> quay1 = new("quay-s1"), quay2 = new("quay-s2"), hill = new("hill-s1"), north = new("north-o1"), tape = new("north-t1");
        var night = new LocalTime(0, 20).PlusMinutes(number * 6);
        var weekly = new Cadence.At(night, Zone, [IsoDayOfWeek.Sunday]);
        var otherNights = new Cadence.At(night, Zone, [IsoDayOfWeek.Monday, IsoDayOfWeek.Tuesday, IsoDayOfWeek.Wednesday, IsoDayOfWeek.Thursday, IsoDayOfWeek.Friday, IsoDayOfWeek.Saturday]);
        var nightly = new Cadence.At(night, Zone, []);
        return r.Way switch
        {
            Way.Gate =>
            [
                Task(SetKind.Full, nightly, quay2, [hill], Fortnight),
                Task(SetKind.Log, Every(2), quay2, [hill], Duration.FromDays(8)),
            ],
            Way.Counter =>
            [
                Task(SetKind.Full, weekly, quay2, [hill, north], Month),
                Task(SetKind.Differential, otherNights, quay2, [hill], Fortnight),
                Task(SetKind.Log, Every(5), quay2, [hill], Fortnight),
            ],
            Way.Office =>
            [
                Task(SetKind.Full, weekly, quay2, [hill], Month),
                Task(SetKind.Differential, otherNights, quay2, [hill], Fortnight),
                Task(SetKind.Log, Every(30), quay2, [hill], Fortnight),
            ],
            Way.OnSameArray =>
            [
                Task(SetKind.Full, weekly, quay1, [], Month),
                Task(SetKind.Differential, otherNights, quay1, [], Fortnight),
                Task(SetKind.Log, Every(30), quay1, [], Fortnight),
            ],
            Way.LogDiscarded =>
            [
                Task(SetKind.Full, nightly, quay2, [hill], Fortnight),
                Task(SetKind.Log, Every(30), quay2, [hill], Fortnight),
            ],
            Way.Stream =>
            [
                Task(SetKind.Full, weekly, quay2, [hill], Month),
                Task(SetKind.Incremental, otherNights, quay2, [hill], Month),
                Task(SetKind.Log, Every(r.Tier == "counter" ? 5 : 15), quay2, [hill], Fortnight),
            ],
            Way.Export => [Task(SetKind.Export, nightly, quay2, [hill], Fortnight)],
            Way.Managed =>
            [
                Task(SetKind.Snapshot, nightly, quay2, [hill], Fortnight),
                Task(SetKind.Log, Every(15), quay2, [hill], Fortnight),
            ],
            Way.Archive => [Task(SetKind.Export, weekly, quay2, [tape], Duration.FromDays(56))],
            Way.Locked =>
            [
                Task(SetKind.Full, weekly, quay2, [hill, north], Month),
                Task(SetKind.Differential, otherNights, quay2, [hill, north], Fortnight),
                Task(SetKind.Log, Every(30), quay2, [hill, north], Fortnight),
            ],
            Way.FullOnly => [Task(SetKind.Full, nightly, quay2, [], Fortnight)],
            _ => [],
        };

        Cadence Every(int minutes) => new Cadence.Every(Duration.FromMinutes(minutes), Duration.FromSeconds(number * 17 % (minutes * 60)));

        TaskScript Task(SetKind kind, Cadence cadence, Id<Store> store, Id<Store>[] copyTo, Duration keep) =>
            new(kind, cadence, store, copyTo, keep, Fortnight, [north]);
    }
}
