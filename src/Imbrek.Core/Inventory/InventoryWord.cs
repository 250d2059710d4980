namespace Imbrek.Core.Inventory;

/// <summary>What is other than the fleet, or the asking before, has it (ways, section 13).</summary>
public enum InventoryWord
{
    /// <summary>The fleet does not know it; or it came into an instance of the fleet since the asking before.</summary>
    New,

    /// <summary>The fleet or the asking before has it there, and the host says it runs no such.</summary>
    Gone,

    /// <summary>The fleet or the asking before has it there, and the host did not tell all it runs.</summary>
    NotSeen,

    /// <summary>It is larger by half than it was, or than the fleet has it.</summary>
    Larger,

    /// <summary>It does something else with its log.</summary>
    LogMode,

    /// <summary>It runs another version than the fleet has.</summary>
    Version,
}
