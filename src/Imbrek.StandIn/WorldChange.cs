using Imbrek.Core.Drills;
using Imbrek.Core.Fleet;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.StandIn;

/// <summary>Something that happened in the world and that the product must keep.</summary>
/// <param name="At">When.</param>
/// <param name="Database">To which database; null when to none.</param>
public abstract record WorldChange(Instant At, Id<Database>? Database)
{
    /// <summary>A marker row was written.</summary>
    public sealed record MarkerWritten(Instant At, Id<Database> Of, string Name) : WorldChange(At, Of);

    /// <summary>Something people should read: a refusal, a failure, a fault switched on or off.</summary>
    public sealed record Happened(Instant At, Id<Database>? Of, string Kind, string Text) : WorldChange(At, Of);

    /// <summary>A rehearsed restore was measured.</summary>
    public sealed record Rehearsed(Instant At, Id<Database> Of, RehearsalMeasure Measure) : WorldChange(At, Of);

    /// <summary>The fleet is another since something was done: where a database runs, its branches, its replicas.</summary>
    public sealed record FleetChanged(Instant At, Id<Database> Of, FleetModel Fleet, string Why) : WorldChange(At, Of);

    /// <summary>A drill of history is over.</summary>
    public sealed record Drilled(Instant At, Id<Database> Of, Guid Id, DrillQuestion Question, Run Run, Ending End, FleetModel Fleet) : WorldChange(At, Of);

    /// <summary>A run of a task began, waits, or is over: this is how it is now.</summary>
    public sealed record RunChanged(Instant At, TaskRun Run) : WorldChange(At, Run.Database);
}
