namespace Imbrek.Core.Fleet;

/// <summary>What the business runs; owns databases.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Name">What people call it.</param>
/// <param name="Owner">Who answers for it; null when nobody has said.</param>
public sealed record Service(Id<Service> Id, string Name, string? Owner);
