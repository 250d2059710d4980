namespace Imbrek.Core.Fleet;

/// <summary>A place that can be lost as a whole.</summary>
/// <param name="Id">Its identifier.</param>
/// <param name="Name">What people call it.</param>
/// <param name="TimeZone">The IANA time zone its people live by.</param>
public sealed record Site(Id<Site> Id, string Name, string TimeZone);
