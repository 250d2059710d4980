namespace Imbrek.Core.Inventory;

/// <summary>One thing that a host tells otherwise than the fleet, or the asking before, has it.</summary>
/// <param name="What">What is other.</param>
/// <param name="Seen">The database as it was seen; as it was known where it was not.</param>
/// <param name="Said">In words: how it is, and how it was.</param>
/// <param name="SinceBefore">Whether the asking before did not have it so yet.</param>
public sealed record InventoryChange(InventoryWord What, SeenDatabase Seen, string Said, bool SinceBefore);
