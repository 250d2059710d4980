using Imbrek.Core.Fleet;
using Imbrek.Core.Planning;
using NodaTime;

namespace Imbrek.StandIn.Scenario;

/// <summary>How Tarnholt Ferries protects its databases: a plan for each way, chosen by tag; and the troubles that lie in plans.</summary>
internal static class TarnholtPlans
{
    private static readonly Duration Fortnight = Duration.FromDays(14);
    private static readonly Duration Month = Duration.FromDays(28);
    private static readonly Id<Store> Array1 = new("quay-s1"), Quay = new("quay-s2"), Hill = new("hill-s1"), North = new("north-o1"), Tape = new("north-t1");

    /// <summary>The key that what is secret is encrypted with.</summary>
    public const string Key = "tarnholt-2026";

    /// <summary>All plans.</summary>
    public static IReadOnlyList<Plan> All(DateTimeZone zone)
    {
        var terminal = Tell("terminal-duty");
        var data = Tell("database-team");
        return
        [
            Of("gates", "Boarding gates", "gate", terminal,
                Full("daily 00:20", 30, Quay, [Hill], Fortnight, hours: 3),
                Log("every 2 minutes", 90, Quay, [Hill], Duration.FromDays(8)),
                ReadBack("Wednesdays and Sundays 13:00", 10), CleanUp),
            Of("counters", "Counters and tickets", "counter", data,
                Full("Sundays 00:30", 120, Quay, [Hill, North], Month, hours: 5),
                Differential("Monday to Saturday 00:30", 120, Quay, [Hill], Fortnight),
                Log("every 5 minutes", 240, Quay, [Hill], Fortnight),
                ReadBack("Wednesdays and Sundays 13:00", 40), CleanUp),
            Of("offices", "Offices", "office", data,
                Full("Sundays 00:40", 240, Quay, [Hill], Month, hours: 6),
                Differential("Monday to Saturday 00:40", 240, Quay, [Hill], Fortnight),
                Log("every 30 minutes", 1500, Quay, [Hill], Fortnight),
                ReadBack("Wednesdays and Sundays 13:20", 40), CleanUp),

            // It outgrew its window: there was room when it was made.
            Of("calls", "Call centre, before the early shift", "calls", data,
                Full("daily 04:55", 0, Quay, [Hill], Fortnight) with { Window = Duration.FromMinutes(5) },
                Log("every 30 minutes", 0, Quay, [Hill], Fortnight),
                ReadBack("Wednesdays and Sundays 13:30", 0), CleanUp),

            // Copies on the array that the databases lie on.
            Of("workshop", "Workshop", "workshop", data,
                Full("Sundays 01:10", 30, Array1, [], Month),
                Differential("Monday to Saturday 01:10", 30, Array1, [], Fortnight),
                Log("every 30 minutes", 600, Array1, [], Fortnight),
                ReadBack("Wednesdays and Sundays 13:40", 10), CleanUp),

            // Its log task is refused: the database discards its log.
            Of("hours", "Crew hours", "hours", data,
                Full("daily 02:10", 0, Quay, [Hill], Fortnight),
                Log("every 30 minutes", 0, Quay, [Hill], Fortnight) with { Attempts = 1 },
                ReadBack("Sundays 13:40", 0), CleanUp),

            // Fulls kept shorter than the incrementals that build on them.
            Of("streams", "Positions and web", "stream", data,
                Full("Sundays 01:30", 60, Quay, [Hill], Duration.FromDays(10)),
                new PlanTask
                {
                    Id = "incremental", Kind = TaskKind.Incremental, Recurrence = When("Monday to Saturday 01:30"), SpreadOver = Duration.FromMinutes(60),
                    Store = Quay, CopyTo = [Hill], Keep = RetentionRule.For(Month),
                },
                Log("every 5 minutes", 240, Quay, [Hill], Fortnight),
                ReadBack("Wednesdays and Sundays 14:00", 20), CleanUp),

            // All at one minute, and nobody is told: one of them has failed for two days.
            Of("exports", "Nightly exports", "export", TellRule.Nobody,
                new PlanTask
                {
                    Id = "export", Kind = TaskKind.Export, Recurrence = When("daily 00:30"), Window = Duration.FromMinutes(90), Store = Quay, CopyTo = [Hill],
                    Keep = RetentionRule.For(Fortnight),
                },
                ReadBack("Wednesdays and Sundays 14:20", 20), CleanUp),
            Of("managed", "Managed", "managed", data,
                new PlanTask
                {
                    Id = "snapshot", Kind = TaskKind.Snapshot, Recurrence = When("daily 03:00"), SpreadOver = Duration.FromHours(2), Store = Quay, CopyTo = [Hill],
                    Keep = RetentionRule.For(Fortnight),
                },
                Log("every 15 minutes", 840, Quay, [Hill], Fortnight),
                ReadBack("Wednesdays and Sundays 14:40", 10), CleanUp),
            Of("reports", "Ticket reports", "full-only", data,
                Full("daily 05:10", 0, Quay, [], Fortnight),
                ReadBack("Wednesdays and Sundays 15:10", 0), CleanUp),
            Of("archive", "Planning archive", "archive", data,
                new PlanTask
                {
                    Id = "export", Kind = TaskKind.Export, Recurrence = When("Saturdays 20:00"), Window = Duration.FromHours(16), Store = Quay, CopyTo = [Tape],
                    Keep = RetentionRule.For(Duration.FromDays(56)),
                },
                ReadBack("Sundays 15:00", 0), CleanUp),
            Of("money", "Payroll and pensions", "money", Tell("people-office", "database-team"),
                Full("Sundays 02:40", 30, Quay, [Hill, North], Month) with { Lock = Fortnight, Key = Key },
                Differential("Monday to Saturday 02:40", 30, Quay, [Hill, North], Fortnight) with { Lock = Fortnight, Key = Key },
                Log("every 30 minutes", 600, Quay, [Hill, North], Fortnight) with { Lock = Fortnight, Key = Key },
                ReadBack("Wednesdays and Sundays 15:20", 5), CleanUp),

            // Each stage follows the one before it; what was shipped is kept for less time than at its source.
            new Plan(new("shipping"), "Web bookings, shipped", new Selection { Databases = [new("web-bookings")] },
            [
                new PlanTask { Id = "back up", Kind = TaskKind.ShipBackup, Recurrence = When("every 5 minutes"), Keep = RetentionRule.For(Duration.FromHours(12)) },
                new PlanTask { Id = "copy", Kind = TaskKind.ShipCopy, After = [new TaskLink("back up", LinkOn.Success)], Keep = RetentionRule.For(Duration.FromHours(4)) },
                new PlanTask { Id = "apply", Kind = TaskKind.ShipApply, After = [new TaskLink("copy", LinkOn.Success)] },
            ], data),
        ];

        Recurrence When(string words) =>
            RecurrenceWords.TryParse(words, zone, new LocalDate(2026, 1, 1), out var recurrence, out var error) ? recurrence! : throw new InvalidOperationException(error);

        static TellRule Tell(params string[] people) => new(people, true, true, Duration.FromHours(26), true);

        static Plan Of(string id, string name, string tag, TellRule tell, params PlanTask[] tasks) =>
            new(new(id), name, new Selection { Tags = ["kept as " + tag] }, tasks, tell);

        PlanTask Full(string when, int spreadMinutes, Id<Store> store, Id<Store>[] copyTo, Duration keep, int hours = 0) => new()
        {
            Id = "full",
            Kind = TaskKind.Full,
            Recurrence = When(when),
            SpreadOver = Duration.FromMinutes(spreadMinutes),
            Window = hours == 0 ? null : Duration.FromHours(hours),
            Store = store,
            CopyTo = copyTo,
            Keep = RetentionRule.For(keep),
        };

        PlanTask Differential(string when, int spreadMinutes, Id<Store> store, Id<Store>[] copyTo, Duration keep) => new()
        {
            Id = "differential",
            Kind = TaskKind.Differential,
            Recurrence = When(when),
            SpreadOver = Duration.FromMinutes(spreadMinutes),
            Store = store,
            CopyTo = copyTo,
            Keep = RetentionRule.For(keep),
        };

        PlanTask Log(string when, int spreadSeconds, Id<Store> store, Id<Store>[] copyTo, Duration keep) => new()
        {
            Id = "log",
            Kind = TaskKind.Log,
            Recurrence = When(when),
            SpreadOver = Duration.FromSeconds(spreadSeconds),
            Store = store,
            CopyTo = copyTo,
            Keep = RetentionRule.For(keep),
        };

        PlanTask ReadBack(string when, int spreadMinutes) => new() { Id = "read back", Kind = TaskKind.Verify, Recurrence = When(when), SpreadOver = Duration.FromMinutes(spreadMinutes) };
    }

    /// <summary>Removes what is no longer kept, once it was read back, well or not.</summary>
    private static PlanTask CleanUp { get; } = new() { Id = "clean up", Kind = TaskKind.CleanUp, After = [new TaskLink("read back", LinkOn.Always)] };
}
