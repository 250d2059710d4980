using NodaTime;

namespace Imbrek.Data;

/// <summary>A version of a plan. The newest is the one in force, unless it says that the plan was removed.</summary>
public sealed class PlanVersionRow
{
    public string Plan { get; set; } = "";

    public int Number { get; set; }

    public Instant At { get; set; }

    public string Who { get; set; } = "";

    public bool Removed { get; set; }

    public string Document { get; set; } = "";
}

/// <summary>A time in which runs of some scope do not start, see <see cref="Core.Timetable.Blackout"/>.</summary>
public sealed class PauseRow
{
    public int Id { get; set; }

    public Instant From { get; set; }

    public Instant? To { get; set; }

    public string? Plan { get; set; }

    public string? Database { get; set; }

    public string? Host { get; set; }

    public string? Store { get; set; }

    public string Reason { get; set; } = "";

    public string Who { get; set; } = "";
}

/// <summary>A message to people about what plans' runs did; what belongs together is one message.</summary>
public sealed class NoticeRow
{
    public long Id { get; set; }

    public Instant FirstAt { get; set; }

    public Instant LastAt { get; set; }

    /// <summary>What makes two happenings one message.</summary>
    public string GroupKey { get; set; } = "";

    public string Kind { get; set; } = "";

    public string[] People { get; set; } = [];

    public string Subject { get; set; } = "";

    public int Count { get; set; }

    public string[] Databases { get; set; } = [];

    /// <summary>The count that was last sent to webhooks; 0 before the first time.</summary>
    public int SentCount { get; set; }

    /// <summary>Not sent before; by the machine's clock. A process that sends it says so here.</summary>
    public Instant? SendAfter { get; set; }

    /// <summary>How often in a row it could not be sent.</summary>
    public int SendFailures { get; set; }
}
