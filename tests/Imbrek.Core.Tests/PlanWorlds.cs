using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.Core.Tests;

/// <summary>A small fleet on two sites, and plans for it, to be changed test by test.</summary>
internal static class PlanWorlds
{
    public static readonly DateTimeZone Oslo = DateTimeZoneProviders.Tzdb["Europe/Oslo"];
    public static readonly Instant Monday = Instant.FromUtc(2026, 3, 2, 12, 0);
    public static readonly Id<Store> Near = new("near"), Far = new("far");

    public static FleetModel Harbour(int databases = 1, int? slots = null, double rpo = 900, double rto = 4 * 3600, bool tracks = true, long? farCapacity = null) => new(
        [new(new("east"), "East", "Europe/Oslo"), new(new("west"), "West", "Europe/Oslo")],
        [new(new("east"), new("west"), 200e6, 2)],
        [new(new("array"), new("east"))],
        [
            new(new("host"), new("east"), new Id<StorageArray>("array"), 400e6, null, [], [], ["east-key"], slots, 2),
            new(new("spare"), new("west"), null, 400e6, null, [], [], ["west-key"]),
        ],
        [
            new(Near, new("east"), null, null, false, 400e6, 400e6),
            new(Far, new("west"), null, null, false, 400e6, 400e6, null, farCapacity),
            new(new("beside"), new("east"), new Id<StorageArray>("array"), null, false, 400e6, 400e6),
        ],
        [
            new(new("chain"), "Chain-log engine", 30, 1, 400e6, 100e6, 50e6, 20, [SetKind.Full, SetKind.Differential, SetKind.Incremental, SetKind.Log], tracks),
            new(new("rows"), "Export-only engine", 30, 1, 400e6, 100e6, 50e6, 20, [SetKind.Export]),
        ],
        [new(new("o"), "Front", rpo, rto, [LossKind.None, LossKind.Site], 90)],
        [new(new("s"), "Service", null)],
        [
            .. Enumerable.Range(0, databases).Select(i => new Database
            {
                Id = new($"d{i}"),
                Name = $"Database {i}",
                Engine = new("chain"),
                Host = new("host"),
                RecoveryHosts = [new("spare")],
                Objective = new Id<Objective>("o"),
                Service = new Id<Service>("s"),
                SizeBytes = 100_000_000_000,
                ChangeBytesPerDay = 10e9,
                LogBytesPerSecond = 200_000,
                Tags = ["t"],
            }),
        ]);

    /// <summary>The same fleet with other databases or stores.</summary>
    public static FleetModel Changed(this FleetModel f, Func<Database, int, Database> database, Func<Store, Store>? store = null) => new(
        f.SiteList, f.Links, f.ArrayList, f.HostList, [.. f.StoreList.Select(store ?? (s => s))], f.EngineList, f.ObjectiveList, f.ServiceList, [.. f.Databases.Select(database)]);

    public static Recurrence When(string words) => RecurrenceWords.TryParse(words, Oslo, new LocalDate(2025, 1, 1), out var r, out var e) ? r! : throw new FormatException(e);

    public static PlanTask Task(TaskKind kind, string? when, string? id = null) => new()
    {
        Id = id ?? kind.ToString(),
        Kind = kind,
        Recurrence = when is null ? null : When(when),
        Store = kind.Makes() is null ? null : Near,
        CopyTo = kind.Makes() is null ? [] : [Far],
    };

    public static Plan Plan(params PlanTask[] tasks) =>
        new(new("p"), "P", new Selection { Services = [new("s")] }, tasks, new TellRule(["somebody"], true, true, null, true));

    /// <summary>Full on Sundays, differential on other nights, log every 15 minutes, read back and cleaned up.</summary>
    public static Plan Usual(string log = "every 15 minutes") => Plan(
        Task(TaskKind.Full, "Sundays 01:00"),
        Task(TaskKind.Differential, "Monday to Saturday 01:00"),
        Task(TaskKind.Log, log),
        Task(TaskKind.Verify, "Wednesdays 13:00"),
        Task(TaskKind.TestRestore, "first Saturday of the month 14:00"),
        Task(TaskKind.CleanUp, null) with { After = [new("Verify", LinkOn.Always)] });
}
