using Imbrek.Core.Fleet;
using NodaTime;

namespace Imbrek.Core.Objectives;

/// <summary>What was agreed for a database: how much may be lost, how soon it must be back, against which losses.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Name">What people call it.</param>
/// <param name="RpoSeconds">Recovery point objective, seconds.</param>
/// <param name="RtoSeconds">Recovery time objective, seconds; judged against service seconds.</param>
/// <param name="Against">The kinds of loss it must hold against.</param>
/// <param name="ProofDays">For how many days a proof counts.</param>
/// <param name="Owner">Who agreed it for those who need the data; null when nobody has said.</param>
/// <param name="Reason">Why it is what it is; null when nobody has said.</param>
/// <param name="Until">Of an exception: until when it was agreed; null for as long as nobody agrees something else.</param>
public sealed record Objective(
    Id<Objective> Id,
    string Name,
    double RpoSeconds,
    double RtoSeconds,
    IReadOnlyList<LossKind> Against,
    double ProofDays,
    string? Owner = null,
    string? Reason = null,
    Instant? Until = null);
