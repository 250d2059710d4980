using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;

namespace Imbrek.Server.Features.Runs;

/// <summary>A kind of run that tasks of plans come to.</summary>
internal interface ITaskKind : IRunKind
{
    /// <summary>The question and the steps of an occurrence; null with the reason when there is nothing to do it with.</summary>
    (string? Question, Run? Run, string? WhyNot) Plan(Occurrence run);

    /// <inheritdoc/>
    Tally IRunKind.TallyOf(RunContext run) => TaskSteps.TallyOf(run);

    /// <inheritdoc/>
    Conclusion IRunKind.Conclude(RunContext run, Ending end, Instant now) => TaskSteps.Conclude(run, end);
}
