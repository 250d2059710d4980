using System.Text.Json.Nodes;

namespace Imbrek.Server.Features.Notices;

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
