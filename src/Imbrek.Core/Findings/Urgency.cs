namespace Imbrek.Core.Findings;

/// <summary>How soon somebody should look.</summary>
public enum Urgency
{
    /// <summary>When there is time.</summary>
    Later,

    /// <summary>This week.</summary>
    Soon,

    /// <summary>Now: something could not be restored as agreed.</summary>
    Now,
}
