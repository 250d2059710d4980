using System.Text.Json;
using System.Text.Json.Nodes;
using Imbrek.Core.Fleet;
using Imbrek.Core.Objectives;
using Imbrek.Core.Planning;
using NodaTime;
using NodaTime.Text;

namespace Imbrek.Core.Formats;

/// <summary>A plan as JSON: a member of the fleet file, and what the API takes and gives. JSON Schema: docs/formats/fleet.schema.json.</summary>
public static class PlanFile
{
    private const double LongestOffsetSeconds = 7 * 86_400;
    private const double LongestBackOffSeconds = 86_400;
    private const int MostTasks = 50;
    private const int MostExceptions = 1_000;

    private static readonly Dictionary<string, TaskKind> Kinds = Enum.GetValues<TaskKind>().ToDictionary(Name);
    private static readonly Dictionary<string, Compression> Compressions = Enum.GetValues<Compression>().ToDictionary(Name);
    private static readonly Dictionary<string, LinkOn> Links = Enum.GetValues<LinkOn>().ToDictionary(Name);
    private static readonly Dictionary<string, MissedRule> MissedRules = Enum.GetValues<MissedRule>().ToDictionary(Name);
    private static readonly Dictionary<string, OverlapRule> OverlapRules = Enum.GetValues<OverlapRule>().ToDictionary(Name);

    /// <summary>Reads one plan; lists every fault with its member, and then gives nothing.</summary>
    /// <param name="utf8">The JSON.</param>
    /// <param name="fleet">The fleet its members and stores must be in.</param>
    /// <param name="today">The first day of recurrences that are given in words without one.</param>
    public static ReadResult<Plan> Read(ReadOnlyMemory<byte> utf8, FleetModel fleet, LocalDate today)
    {
        var report = new FaultReport("plan");
        var root = LocatedJson.Parse(utf8, report);
        Plan? plan = null;
        if (root is { IsObject: false })
        {
            root.Fault("expected an object");
        }
        else if (root is not null)
        {
            plan = Read(root, fleet, today);
        }

        return new(report.Faults.Count == 0 ? plan : null, report.Faults, report.Warnings);
    }

    /// <summary>Writes a plan so that <see cref="Read(ReadOnlyMemory{byte}, FleetModel, LocalDate)"/> gives the same one.</summary>
    public static JsonObject Write(Plan plan) => new()
    {
        ["id"] = plan.Id.Value,
        ["name"] = plan.Name,
        ["members"] = new JsonObject
        {
            ["databases"] = List(plan.Members.Databases),
            ["services"] = List(plan.Members.Services),
            ["tags"] = List(plan.Members.Tags),
            ["engines"] = List(plan.Members.Engines),
            ["objectives"] = List(plan.Members.Objectives),
            ["except"] = List(plan.Members.Except),
        },
        ["tasks"] = new JsonArray([.. plan.Tasks.Select(t => (JsonNode)Write(t))]),
        ["tell"] = new JsonObject
        {
            ["people"] = List(plan.Tell.People),
            ["failure"] = plan.Tell.Failure,
            ["lateness"] = plan.Tell.Lateness,
            ["silenceSeconds"] = plan.Tell.Silence?.TotalSeconds,
            ["recovery"] = plan.Tell.Recovery,
        },
    };

    /// <summary>The kind of task of a name; null when there is none.</summary>
    public static TaskKind? KindNamed(string name) => Kinds.TryGetValue(name, out var kind) ? kind : null;

    /// <summary>The name of a member of an enumeration as the files write it: copyElsewhere for CopyElsewhere.</summary>
    public static string Name<T>(T value)
        where T : struct, Enum => char.ToLowerInvariant(value.ToString()[0]) + value.ToString()[1..];

    internal static Plan? Read(LocatedJson j, FleetModel fleet, LocalDate today)
    {
        var id = j.Identifier("id") ?? "";
        var name = j.Text("name", false) is { Length: > 0 } given ? given : id;
        var members = j.Object("members") is { } m ? ReadMembers(m, fleet) : new Selection();
        var items = j.Objects("tasks");
        if (items.Count > MostTasks)
        {
            j.FaultAt("tasks", $"holds {items.Count}; a plan has at most {MostTasks}");
            return null;
        }

        var tasks = items.Select(t => ReadTask(t, fleet, today)).ToArray();
        CheckLinks(items, tasks);
        var tell = TellRule.Nobody;
        if (j.Object("tell") is { } t)
        {
            tell = new TellRule(t.Texts("people"), t.Flag("failure") ?? true, t.Flag("lateness") ?? true, Seconds(t, "silenceSeconds"), t.Flag("recovery") ?? true);
            t.WarnOfUnknown();
        }

        j.WarnOfUnknown();
        return j.HasFaults ? null : new Plan(new(id), name, members, tasks, tell);
    }

    private static Selection ReadMembers(LocatedJson j, FleetModel fleet)
    {
        var read = new Selection
        {
            Databases = Refs<Database>(j, "databases", fleet.DatabaseById.ContainsKey, "database"),
            Services = Refs<Service>(j, "services", fleet.Services.ContainsKey, "service"),
            Tags = j.Texts("tags"),
            Engines = Refs<EngineProfile>(j, "engines", fleet.Engines.ContainsKey, "engine"),
            Objectives = Refs<Objective>(j, "objectives", fleet.Objectives.ContainsKey, "objective"),
            Except = Refs<Database>(j, "except", fleet.DatabaseById.ContainsKey, "database"),
        };
        j.WarnOfUnknown();
        return read;
    }

    private static PlanTask ReadTask(LocatedJson j, FleetModel fleet, LocalDate today)
    {
        var id = j.Text("id") ?? "";
        var kind = j.Choice("kind", Kinds) ?? TaskKind.Full;
        var recurrence = j.Object("recurrence") is { } r ? ReadRecurrence(r, fleet, today) : null;
        var after = j.Objects("after").Take(MostTasks).Select(a =>
        {
            var link = new TaskLink(a.Text("task") ?? "", a.Choice("on", Links, false) ?? LinkOn.Success);
            a.WarnOfUnknown();
            return link;
        }).ToArray();
        var store = j.Text("store", false);
        if (store is not null && !fleet.Stores.ContainsKey(new(store)))
        {
            j.FaultAt("store", $"there is no store '{InputBounds.Quote(store)}'");
        }

        var copyTo = Refs<Store>(j, "copyTo", fleet.Stores.ContainsKey, "store");
        var needsStore = kind.Makes() is not null || kind == TaskKind.CopyElsewhere;
        if (needsStore && store is null)
        {
            j.FaultAt("store", "is missing; say where the set goes");
        }

        if (kind.Ships() is not null && (store is not null || copyTo.Length > 0))
        {
            j.FaultAt(store is not null ? "store" : "copyTo", "has no place here: what is shipped lies at the source and beside the replica");
        }

        if (store is not null && copyTo.Contains(new Id<Store>(store)))
        {
            j.FaultAt("copyTo", $"'{store}' is where the set goes already");
        }

        if (j.Object("recurrence") is null && after.Length == 0)
        {
            j.FaultAt("recurrence", "is missing; say when it is due, or which task it follows");
        }

        var naming = j.Text("naming", false) ?? SetNaming.Default;
        if (SetNaming.WhatIsWrong(naming) is { } wrong)
        {
            j.FaultAt("naming", wrong);
        }

        var task = new PlanTask
        {
            Id = id,
            Kind = kind,
            Recurrence = recurrence,
            After = after,
            SpreadOver = Seconds(j, "spreadSeconds") ?? Duration.Zero,
            Offsets = ReadOffsets(j),
            Window = Seconds(j, "windowSeconds", above: true),
            Store = store is null ? null : new Id<Store>(store),
            CopyTo = copyTo,
            Naming = naming,
            Compression = j.Choice("compression", Compressions, false) ?? Compression.Light,
            Key = j.Text("key", false),
            Checksum = j.Flag("checksum") ?? true,
            VerifyAfterWriting = j.Flag("verifyAfterWriting") ?? false,
            Attempts = (int)(j.Integer("attempts", false, 1, 20) ?? 2),
            BackOff = j.Number("backOffSeconds", false, 0, LongestBackOffSeconds) is { } wait ? Duration.FromSeconds(Math.Round(wait, 3)) : Duration.FromMinutes(1),
            TimeLimit = Seconds(j, "timeLimitSeconds", above: true),
            OutsideChain = j.Flag("outsideChain") ?? false,
            Keep = j.Object("keep") is { } keep ? ReadRule(keep) : RetentionRule.For(Duration.FromDays(14)),
            KeepCopies = j.Object("keepCopies") is { } copies ? ReadRule(copies) : null,
            Lock = Seconds(j, "lockSeconds", above: true),
            Missed = j.Choice("missed", MissedRules, false) ?? MissedRule.CatchUpOnce,
            Overlap = j.Choice("overlap", OverlapRules, false) ?? OverlapRule.Skip,
        };
        if (kind.Ships() is not null && task.Keep is not { KeepFor: not null, Newest: 0, Daily: 0, Weekly: 0, Monthly: 0, Yearly: 0, Continuous: null })
        {
            j.FaultAt("keep", "must say forSeconds alone: what is shipped is kept by its age");
        }

        j.WarnOfUnknown();
        return task;
    }

    /// <summary>Members' own starts; each at most once, and within a week.</summary>
    private static Dictionary<string, Duration> ReadOffsets(LocatedJson j)
    {
        var offsets = new Dictionary<string, Duration>();
        foreach (var o in j.Objects("offsets"))
        {
            var (database, seconds) = (o.Text("database"), o.Number("seconds", true, 0, LongestOffsetSeconds));
            if (database is not null && seconds is not null && !offsets.TryAdd(database, Duration.FromSeconds(Math.Round(seconds.Value, 3))))
            {
                o.FaultAt("database", $"'{database}' is named twice");
            }
        }

        return offsets;
    }

    private static Recurrence? ReadRecurrence(LocatedJson j, FleetModel fleet, LocalDate today)
    {
        var zoneId = j.Text("zone", false) ?? (fleet.SiteList.Count > 0 ? fleet.SiteList[0].TimeZone : "UTC");
        var zone = DateTimeZoneProviders.Tzdb.GetZoneOrNull(zoneId);
        if (zone is null)
        {
            j.FaultAt("zone", $"'{InputBounds.Quote(zoneId)}' is no time zone of the IANA list");
        }

        var start = today.AtMidnight();
        if (j.Text("start", false) is { } text)
        {
            if (LocalDateTimePattern.GeneralIso.Parse(text) is { Success: true } at)
            {
                start = at.Value;
            }
            else if (LocalDatePattern.Iso.Parse(text) is { Success: true } date)
            {
                start = date.Value.AtMidnight();
            }
            else
            {
                j.FaultAt("start", $"'{InputBounds.Quote(text)}' is not a local time such as 2026-03-01T23:30:00");
            }

            if (!InputBounds.Allows(start))
            {
                j.FaultAt("start", "must lie between 1900 and 2200");
                start = today.AtMidnight();
            }
        }

        Recurrence? read = null;
        if (j.Text("words", false, InputBounds.Words) is { } words && zone is not null)
        {
            if (!RecurrenceWords.TryParse(words, zone, start.Date, out read, out var error))
            {
                j.FaultAt("words", error!);
            }
        }
        else
        {
            try
            {
                var rule = j.Text("rule", true, InputBounds.Reason);
                read = rule is null || zone is null ? null : new Recurrence(RecurrenceRule.Parse(rule), start, zone);
            }
            catch (FormatException e)
            {
                j.FaultAt("rule", e.Message);
            }
        }

        var days = j.Texts("exceptDays", MostExceptions).Select(t => Local(LocalDatePattern.Iso, "exceptDays", t)).ToArray();
        var times = j.Texts("exceptTimes", MostExceptions).Select(t => Local(LocalDateTimePattern.GeneralIso, "exceptTimes", t)).ToArray();
        j.WarnOfUnknown();
        return read is null ? null : new Recurrence(read.Rule, read.Start, read.Zone, days, times);

        T Local<T>(IPattern<T> pattern, string member, string value)
        {
            var parsed = pattern.Parse(value);
            if (!parsed.Success)
            {
                j.FaultAt(member, $"'{InputBounds.Quote(value)}' cannot be read; expected such as 2026-12-24 or 2026-12-24T23:30:00");
                return default!;
            }

            return parsed.Value;
        }
    }

    private static RetentionRule ReadRule(LocatedJson j)
    {
        var rule = new RetentionRule(
            Seconds(j, "forSeconds"), Count("newest", 100_000), Count("daily", 36_600), Count("weekly", 5_220), Count("monthly", 1_200), Count("yearly", 100), Seconds(j, "continuousSeconds"), j.Flag("lastOfPeriod") ?? true);
        j.WarnOfUnknown();
        if (rule.IsEmpty)
        {
            j.Fault("keeps nothing; state at least one of forSeconds, newest, daily, weekly, monthly, yearly, continuousSeconds");
        }

        return rule;

        int Count(string name, int most) => (int)(j.Integer(name, false, 0, most) ?? 0);
    }

    private static void CheckLinks(IReadOnlyList<LocatedJson> items, PlanTask[] tasks)
    {
        var seen = new HashSet<string>();
        for (var i = 0; i < tasks.Length; i++)
        {
            if (!seen.Add(tasks[i].Id))
            {
                items[i].FaultAt("id", $"'{tasks[i].Id}' is used twice in tasks");
            }

            foreach (var link in tasks[i].After.Where(l => !Array.Exists(tasks, t => t.Id == l.Task)))
            {
                items[i].FaultAt("after", $"there is no task '{link.Task}' in this plan");
            }
        }

        for (var i = 0; i < tasks.Length; i++)
        {
            var reached = new HashSet<string>();
            var open = new Stack<string>(tasks[i].After.Select(a => a.Task));
            while (open.TryPop(out var at))
            {
                if (reached.Add(at) && Array.Find(tasks, t => t.Id == at) is { } before)
                {
                    foreach (var link in before.After)
                    {
                        open.Push(link.Task);
                    }
                }
            }

            if (reached.Contains(tasks[i].Id))
            {
                items[i].FaultAt("after", "leads back to the task itself");
            }
        }
    }

    private static Duration? Seconds(LocatedJson j, string name, bool above = false) =>
        j.Seconds(name, false, above) is { } s ? Duration.FromSeconds(s) : null;

    private static Id<T>[] Refs<T>(LocatedJson j, string member, Func<Id<T>, bool> known, string what)
    {
        var ids = j.Texts(member).Select(t => new Id<T>(t)).ToArray();
        foreach (var id in ids.Where(id => !known(id)))
        {
            j.FaultAt(member, $"there is no {what} '{id}'");
        }

        return ids;
    }

    private static JsonObject Write(PlanTask t) => new()
    {
        ["id"] = t.Id,
        ["kind"] = Name(t.Kind),
        ["recurrence"] = t.Recurrence is { } r ? Write(r) : null,
        ["after"] = new JsonArray([.. t.After.Select(a => (JsonNode)new JsonObject { ["task"] = a.Task, ["on"] = Name(a.On) })]),
        ["spreadSeconds"] = t.SpreadOver.TotalSeconds,
        ["offsets"] = new JsonArray([.. t.Offsets.Select(o => (JsonNode)new JsonObject { ["database"] = o.Key, ["seconds"] = o.Value.TotalSeconds })]),
        ["windowSeconds"] = t.Window?.TotalSeconds,
        ["store"] = t.Store?.Value,
        ["copyTo"] = List(t.CopyTo),
        ["naming"] = t.Naming,
        ["compression"] = Name(t.Compression),
        ["key"] = t.Key,
        ["checksum"] = t.Checksum,
        ["verifyAfterWriting"] = t.VerifyAfterWriting,
        ["attempts"] = t.Attempts,
        ["backOffSeconds"] = t.BackOff.TotalSeconds,
        ["timeLimitSeconds"] = t.TimeLimit?.TotalSeconds,
        ["outsideChain"] = t.OutsideChain,
        ["keep"] = Write(t.Keep),
        ["keepCopies"] = t.KeepCopies is { } k ? Write(k) : null,
        ["lockSeconds"] = t.Lock?.TotalSeconds,
        ["missed"] = Name(t.Missed),
        ["overlap"] = Name(t.Overlap),
    };

    private static JsonObject Write(Recurrence r) => new()
    {
        ["rule"] = r.Rule.Text,
        ["start"] = LocalDateTimePattern.GeneralIso.Format(r.Start),
        ["zone"] = r.Zone.Id,
        ["exceptDays"] = new JsonArray([.. r.ExceptDays.Select(d => (JsonNode)LocalDatePattern.Iso.Format(d)!)]),
        ["exceptTimes"] = new JsonArray([.. r.ExceptTimes.Select(d => (JsonNode)LocalDateTimePattern.GeneralIso.Format(d)!)]),
    };

    private static JsonObject Write(RetentionRule r) => new()
    {
        ["forSeconds"] = r.KeepFor?.TotalSeconds,
        ["newest"] = r.Newest,
        ["daily"] = r.Daily,
        ["weekly"] = r.Weekly,
        ["monthly"] = r.Monthly,
        ["yearly"] = r.Yearly,
        ["continuousSeconds"] = r.Continuous?.TotalSeconds,
        ["lastOfPeriod"] = r.LastOfPeriod,
    };

    private static JsonArray List<T>(IEnumerable<Id<T>> ids) => List(ids.Select(i => i.Value));

    private static JsonArray List(IEnumerable<string> texts) => new([.. texts.Select(t => (JsonNode)t!)]);
}
