using System.Globalization;
using System.Security.Claims;
using System.Threading.RateLimiting;
using Microsoft.AspNetCore.RateLimiting;

namespace Imbrek.Server.Security;

/// <summary>How much is asked at once: requests per person, and computations per person and in all. Who asks more is told when to ask again.</summary>
internal static class RequestLimits
{
    /// <summary>The largest body of a request that is no import, in bytes.</summary>
    public const long BodyBytes = 1_000_000;

    /// <summary>Requests one person may make in a burst, and each second after it. A page asks for about ten.</summary>
    private const int Burst = 1_000;
    private const int EachSecond = 300;
    private const int BurstUnknown = 200;
    private const int EachSecondUnknown = 20;

    private const int ComputeOfOne = 4;
    private const int WaitOfOne = 12;
    private const int WaitInAll = 64;

    /// <summary>Adds the limits.</summary>
    public static IServiceCollection AddRequestLimits(this IServiceCollection services) => services.AddRateLimiter(o =>
    {
        var computeInAll = Math.Max(4, 2 * Environment.ProcessorCount);
        o.GlobalLimiter = PartitionedRateLimiter.CreateChained(
            PartitionedRateLimiter.Create<HttpContext, string>(http => !http.Request.Path.StartsWithSegments("/api", StringComparison.Ordinal)
                ? RateLimitPartition.GetNoLimiter("")
                : RateLimitPartition.GetTokenBucketLimiter(Who(http, out var known), _ => new TokenBucketRateLimiterOptions
                {
                    TokenLimit = known ? Burst : BurstUnknown,
                    TokensPerPeriod = known ? EachSecond : EachSecondUnknown,
                    ReplenishmentPeriod = TimeSpan.FromSeconds(1),
                })),
            PartitionedRateLimiter.Create<HttpContext, string>(http => Computes(http)
                ? RateLimitPartition.GetConcurrencyLimiter(Who(http, out _), _ => new ConcurrencyLimiterOptions { PermitLimit = ComputeOfOne, QueueLimit = WaitOfOne })
                : RateLimitPartition.GetNoLimiter("")),
            PartitionedRateLimiter.Create<HttpContext, string>(http => Computes(http)
                ? RateLimitPartition.GetConcurrencyLimiter("all", _ => new ConcurrencyLimiterOptions { PermitLimit = computeInAll, QueueLimit = WaitInAll })
                : RateLimitPartition.GetNoLimiter("")));
        o.OnRejected = async (rejected, cancel) =>
        {
            var wait = rejected.Lease.TryGetMetadata(MetadataName.RetryAfter, out var after) ? Math.Max(1, Math.Ceiling(after.TotalSeconds)) : 1;
            rejected.HttpContext.Response.Headers.RetryAfter = wait.ToString(CultureInfo.InvariantCulture);
            await Problems.WriteAsync(rejected.HttpContext, 429, "too-many", "", "Too much is asked at once. Nothing was changed; ask again in a moment.");
        };
    });

    private static bool Computes(HttpContext http) => http.GetEndpoint()?.Metadata.GetMetadata<ComputesMark>() is not null;

    private static string Who(HttpContext http, out bool known)
    {
        known = http.User.Identity?.IsAuthenticated == true;
        return known ? http.User.FindFirstValue(ClaimTypes.NameIdentifier) ?? "" : $"from {http.Connection.RemoteIpAddress}";
    }
}
