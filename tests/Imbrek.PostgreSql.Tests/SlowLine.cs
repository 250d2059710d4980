using System.Net;
using System.Net.Sockets;

namespace Imbrek.PostgreSql.Tests;

/// <summary>A line to a cluster on which what that answers arrives late, as from the other end of the world.</summary>
internal sealed class SlowLine : IAsyncDisposable
{
    private static readonly TimeSpan Late = TimeSpan.FromMilliseconds(500);
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly CancellationTokenSource ending = new();
    private readonly Task accepting;

    public SlowLine(int port)
    {
        listener.Start();
        accepting = AcceptAsync(port);
    }

    /// <summary>The port it answers at, on loopback.</summary>
    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    private async Task AcceptAsync(int port)
    {
        while (true)
        {
            _ = LeadAsync(await listener.AcceptTcpClientAsync(ending.Token), port);
        }
    }

    private async Task LeadAsync(TcpClient client, int port)
    {
        using (client)
        using (var there = new TcpClient())
        {
            try
            {
                await there.ConnectAsync(IPAddress.Loopback, port, ending.Token);
                await using var asks = client.GetStream();
                await using var answers = there.GetStream();
                await Task.WhenAny(asks.CopyToAsync(answers, ending.Token), AnswerAsync(answers, asks));
            }
            catch (Exception e) when (e is SocketException or IOException or OperationCanceledException)
            {
                // Whoever is connected sees that it ended.
            }
        }
    }

    private async Task AnswerAsync(NetworkStream from, NetworkStream to)
    {
        var buffer = new byte[1 << 20];
        while (await from.ReadAsync(buffer, ending.Token) is > 0 and var n)
        {
            using var late = new PeriodicTimer(Late);
            await late.WaitForNextTickAsync(ending.Token);
            await to.WriteAsync(buffer.AsMemory(0, n), ending.Token);
        }
    }

    public async ValueTask DisposeAsync()
    {
        await ending.CancelAsync();
        listener.Dispose();
        await accepting.ContinueWith(_ => { }, TaskScheduler.Default);
        ending.Dispose();
    }
}
