using System.Net.ServerSentEvents;
using Imbrek.Server.Security;

namespace Imbrek.Server.Features.Live;

/// <summary><c>GET /api/events</c>: what changes, as server-sent events.</summary>
internal static class LiveEndpoints
{
    public static void Map(IEndpointRouteBuilder app) =>
        app.MapGet("/api/events", (LiveEvents live, IHostApplicationLifetime life, CancellationToken cancel) =>
        {
            var ends = CancellationTokenSource.CreateLinkedTokenSource(cancel, life.ApplicationStopping);
            return TypedResults.ServerSentEvents(Stream(live, ends.Token));
        }).Needs(Roles.Look).WithName("Events").ExcludeFromDescription();

    private static async IAsyncEnumerable<SseItem<string>> Stream(LiveEvents live, [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken cancel)
    {
        yield return new SseItem<string>("{}", "hello");
        await foreach (var e in live.Listen(cancel))
        {
            yield return new SseItem<string>(e.Data, e.Name);
        }
    }
}
