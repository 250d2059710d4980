namespace Imbrek.Core.Planning;

/// <summary>The FREQ of a recurrence rule (RFC 5545, 3.3.10), longest period first.</summary>
public enum Frequency
{
    /// <summary>Years.</summary>
    Yearly,

    /// <summary>Months.</summary>
    Monthly,

    /// <summary>Weeks.</summary>
    Weekly,

    /// <summary>Days.</summary>
    Daily,

    /// <summary>Hours.</summary>
    Hourly,

    /// <summary>Minutes.</summary>
    Minutely,

    /// <summary>Seconds.</summary>
    Secondly,
}
