namespace Imbrek.Core.Recovery;

/// <summary>What the plans of a database will come to under one loss, as far as its verdict is concerned (section 5, designed).</summary>
/// <param name="WorstExposureSeconds">The worst exposure of the coming week; null when at some time there will be nothing to restore from.</param>
/// <param name="LongestServiceSeconds">Service seconds of the longest restore of that week; null when at some time there will be no path.</param>
public sealed record DesignedOutlook(double? WorstExposureSeconds, double? LongestServiceSeconds);
