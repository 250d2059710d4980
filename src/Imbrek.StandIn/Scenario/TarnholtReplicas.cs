using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Replication;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>The replicas of Tarnholt Ferries: those that keep its gates open, those that only look as if they would, and what happened to them.</summary>
internal static class TarnholtReplicas
{
    private const long MB = 1_000_000, GB = 1_000_000_000;
    private const double Hour = 3600, Day = 86_400;

    /// <summary>All replicas.</summary>
    public static IReadOnlyList<Replica> All { get; } =
    [
        // The gates: nothing is lost and nobody is asked; a mistaken change is gone back behind.
        Gate("gate-scans"),
        Gate("gate-passes"),

        On("tickets-hill", "tickets", "hill-h1", ReplicaMode.Async) with { PromoteSeconds = 40, KeepLogSeconds = Day },
        On("tickets-north", "tickets", "north-h1", ReplicaMode.Async) with { From = new("tickets-hill"), PromoteSeconds = 60, KeepLogSeconds = Day, Priority = 2 },
        On("ticket-payments-hill", "ticket-payments", "hill-h1", ReplicaMode.Async) with { PromoteSeconds = 40, KeepLogSeconds = Day },

        // Reports are read from it; it is never to take over.
        On("passes-reports", "passes", "hill-h2", ReplicaMode.Async) with { TakesOver = TakesOver.Never, KeepLogSeconds = 12 * Hour },

        // What was shipped is kept for less time than at its source.
        On("web-bookings-shipped", "web-bookings", "hill-h2", ReplicaMode.Shipped) with
        {
            Readable = ReplicaReadable.BetweenApplies,
            PromoteSeconds = 90,
            WatchSeconds = 30,
            Stages = new ShippingStages(new(300, 5), new(300, 8), new(300, 20), 12 * Hour, 4 * Hour),
        },

        // Volumes of one array, consistent with each other; those of the crew's hours were forgotten.
        Volume("crew-roster"),
        Volume("crew-certificates"),

        // Four hours behind on purpose, with an account of its own: what is deleted here is still there.
        On("payroll-late", "payroll", "hill-h2", ReplicaMode.Async) with { DelaySeconds = 4 * Hour, Apart = true, PromoteSeconds = 60, KeepLogSeconds = Day, LogRoomBytes = 60 * GB },

        // Behind on purpose by less than it takes to notice: it protects against nothing.
        On("pensions-late", "pensions", "hill-h2", ReplicaMode.Async) with { DelaySeconds = 120, PromoteSeconds = 60, KeepLogSeconds = Day },

        // The boards on Outer Skerry hang on a radio link that the mornings are too much for.
        On("sailings-hill", TarnholtFerries.BadChangeDatabase, "hill-h1", ReplicaMode.Async) with { PromoteSeconds = 40, KeepLogSeconds = Day },
        On("sailings-skerry", TarnholtFerries.BadChangeDatabase, "skerry-h1", ReplicaMode.Async) with { From = new("sailings-hill"), TakesOver = TakesOver.Never, KeepLogSeconds = Day },

        // Takes over unasked, and will lose what nobody counted.
        On("sms-hill", "sms-queue", "hill-h2", ReplicaMode.Async) with { TakesOver = TakesOver.ByItself, PromoteSeconds = 25, KeepLogSeconds = 12 * Hour },

        // Its volume for log is full: applying was stopped for a report and never begun again.
        On("customs-hill", "cargo-customs", "hill-h1", ReplicaMode.Async) with { PromoteSeconds = 40, KeepLogSeconds = 3 * Day, LogRoomBytes = 2 * GB },

        On("vouchers-hill", "vouchers", "hill-m1", ReplicaMode.BothActive) with { PromoteSeconds = 10, KeepLogSeconds = 6 * Hour },
        On("ais-live-hill", "ais-live", "hill-h1", ReplicaMode.Burst) with { PromoteSeconds = 30, KeepLogSeconds = 6 * Hour },

        // A live block copy on another disk of the same site, usable as soon as it is detached.
        On("weights-mirror", "cargo-weights", "quay-h1", ReplicaMode.Sync) with { Readable = ReplicaReadable.Never, PromoteSeconds = 45 },
    ];

    /// <summary>All groups.</summary>
    public static IReadOnlyList<ReplicaGroup> Groups { get; } =
    [
        new(new("gates"), "Boarding gates", [new("gate-scans"), new("gate-passes")], [new("quay-h2"), new("hill-h1"), new("north-h1")]) { NoticeSeconds = 15 },
        new(new("crew"), "Crew", [new("crew-roster"), new("crew-certificates"), new("crew-hours")], []),
        new(new("messages"), "Messages", [new("sms-queue")], [new("quay-h2"), new("hill-h2"), new("north-h1")]) { NoticeSeconds = 20 },
    ];

    /// <summary>What happened to them.</summary>
    /// <param name="now">The instant that becomes "now".</param>
    public static IReadOnlyList<ScriptedTrouble> Troubles(Instant now)
    {
        var night = now.InUtc().Date.PlusDays(-3).At(new LocalTime(2, 40)).InUtc().ToInstant();
        Id<Site> hill = new("hillhouse"), north = new("northlight");
        return
        [
            new(night, w => w.Faults.SetLinkDown(hill, north, true)),
            new(night + Duration.FromMinutes(47), w => w.Faults.SetLinkDown(hill, north, false)),
            new(now - Duration.FromHours(29), w => w.Faults.SetApplyStopped(new("customs-hill"), true)),
            new(now - Duration.FromHours(52), w => w.Faults.SetReader(new("passes-reports"), 95 * 60)),
        ];
    }

    /// <summary>The drills that were held.</summary>
    /// <param name="now">The instant that becomes "now".</param>
    public static IReadOnlyList<ScriptedDrill> Drills(Instant now) =>
    [
        // The whole of Quayside taken for lost: nothing was, and everybody was back in time.
        new(Night(now, 16), new("gate-scans-hill"), DrillKind.Forced, DrillEnding.Home, "site:quayside", 20),
        new(Night(now, 16), new("gate-passes-hill"), DrillKind.Forced, DrillEnding.Home, "site:quayside", 20),
        new(Night(now, 12), new("ticket-payments-hill"), DrillKind.Switchover, DrillEnding.Home, null, 70),

        // Between two ferries. Somebody had stopped it for a report and forgotten it: more is lost than was agreed.
        new(Night(now, 9) + Duration.FromHours(7), new("ais-live-hill"), DrillKind.Forced, DrillEnding.Home, null, 45) { StoppedBeforeSeconds = 22 * 60 },

        // A late ferry: called off when everybody had been told.
        new(Night(now, 4), new("sailings-hill"), DrillKind.Switchover, DrillEnding.Home, null, 240, CalledOff: true),
    ];

    /// <summary>Half past three of a night so many days ago.</summary>
    private static Instant Night(Instant now, int daysAgo) => now.InUtc().Date.PlusDays(-daysAgo).At(new LocalTime(3, 30)).InUtc().ToInstant();

    private static Replica Gate(string database) => On(database + "-hill", database, "hill-h1", ReplicaMode.Sync) with
    {
        TakesOver = TakesOver.ByItself,
        PromoteSeconds = 20,
        RewindSeconds = Hour,
        RewindTakesSeconds = 90,
        KeepLogSeconds = 6 * Hour,
    };

    private static Replica Volume(string database) => new()
    {
        Id = new(database + "-volume"),
        Database = new(database),
        Place = new ReplicaPlace.OnArray(new("hill-a1"), [new("hill-h1")]),
        Mode = ReplicaMode.Array,
        Readable = ReplicaReadable.Never,
        PromoteSeconds = 75,
        KeepLogSeconds = 8 * Hour,
    };

    private static Replica On(string id, string database, string host, ReplicaMode mode) =>
        new() { Id = new(id), Database = new(database), Place = new ReplicaPlace.OnHost(new(host)), Mode = mode };
}
