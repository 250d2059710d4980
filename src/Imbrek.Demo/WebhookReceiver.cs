using System.Text.Json.Nodes;

using Imbrek.Core.Formats;
using Imbrek.Server.Security;

namespace Imbrek.Demo;

/// <summary>A receiver of webhooks that ships with the product, to try them without anybody else: the last hundred it was sent.</summary>
internal sealed class WebhookReceiver
{
    private const int Most = 100;

    private readonly Lock gate = new();
    private readonly LinkedList<JsonObject> taken = [];

    /// <summary>What was sent, newest first.</summary>
    public IReadOnlyList<JsonObject> Taken
    {
        get
        {
            lock (gate)
            {
                return [.. taken];
            }
        }
    }

    /// <summary>
    /// Maps what was taken, and, given a secret, where it is sent to: who posts is known by the secret in the address, which only those who started
    /// the demo know.
    /// </summary>
    public static void Map(IEndpointRouteBuilder app, string? secret)
    {
        app.MapGet("/api/webhook-receiver", (WebhookReceiver receiver) => TypedResults.Ok(receiver.Taken)).Needs(Roles.Look).WithName("ReceivedByWebhook");
        if (secret is { Length: > 0 } && InputBounds.WhatIsWrongWithId(secret) is null)
        {
            app.MapPost($"/webhook-receiver/{secret}", async (JsonObject message, WebhookReceiver receiver) =>
            {
                receiver.Take(message);
                return Results.NoContent();
            }).AllowAnonymous().DisableAntiforgery().ExcludeFromDescription();
        }
    }

    /// <summary>Takes a message.</summary>
    public void Take(JsonObject message)
    {
        lock (gate)
        {
            taken.AddFirst(message);
            if (taken.Count > Most)
            {
                taken.RemoveLast();
            }
        }
    }
}
