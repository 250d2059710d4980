using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>How a fleet answers one loss: each database counts once, by the first of the reasons that applies to it.</summary>
/// <param name="Databases">How many databases there are.</param>
/// <param name="Hold">Within RPO and RTO, or without an objective and recoverable.</param>
/// <param name="LoseTooMuch">Exposure over RPO.</param>
/// <param name="TakeTooLong">Within RPO, but no path or service seconds over RTO.</param>
/// <param name="Nothing">Nothing to restore from.</param>
public sealed record FleetAnswer(int Databases, int Hold, int LoseTooMuch, int TakeTooLong, int Nothing)
{
    /// <summary>The answer of a fleet with nothing in it.</summary>
    public static FleetAnswer Empty { get; } = new(0, 0, 0, 0, 0);

    /// <summary>The answer with one more database.</summary>
    /// <param name="objective">Its objective; null when none was agreed.</param>
    /// <param name="figures">Its figures under the loss.</param>
    /// <param name="at">The as-of instant.</param>
    public FleetAnswer With(Objective? objective, LossFigures figures, Instant at)
    {
        var more = this with { Databases = Databases + 1 };
        if (figures.ExposureSeconds(at) is not { } exposure)
        {
            return more with { Nothing = Nothing + 1 };
        }

        if (objective is null)
        {
            return more with { Hold = Hold + 1 };
        }

        return exposure > objective.RpoSeconds ? more with { LoseTooMuch = LoseTooMuch + 1 }
            : figures.Path is null || figures.Path.ServiceSeconds > objective.RtoSeconds ? more with { TakeTooLong = TakeTooLong + 1 }
            : more with { Hold = Hold + 1 };
    }
}
