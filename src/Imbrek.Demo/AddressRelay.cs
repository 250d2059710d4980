using System.Net;
using System.Net.Sockets;
using Imbrek.PostgreSql.Cluster;

namespace Imbrek.Demo;

/// <summary>A small relay at an address that clients keep: whoever connects is led to where the database is now. Those who are connected stay where they are until that ends.</summary>
internal sealed class AddressRelay : IAsyncDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly CancellationTokenSource ending = new();
    private Task accepting = Task.CompletedTask;

    private AddressRelay() => listener.Start();

    /// <summary>The port it answers at, on loopback.</summary>
    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    /// <summary>Starts one.</summary>
    /// <param name="addresses">Where it says where it answers, and reads where it leads.</param>
    /// <param name="database">For which database.</param>
    /// <param name="port">Where it leads as long as nobody has said otherwise.</param>
    /// <param name="cancel">Gives up.</param>
    public static async Task<AddressRelay> StartAsync(ClientAddresses addresses, string database, int port, CancellationToken cancel)
    {
        var relay = new AddressRelay();
        if (addresses.LeadsTo(database) is null)
        {
            await addresses.SendAsync(database, "127.0.0.1", port, cancel);
        }

        await addresses.AnswersAtAsync(database, "127.0.0.1", relay.Port, cancel);
        relay.accepting = Task.Run(() => relay.AcceptAsync(addresses, database), CancellationToken.None);
        return relay;
    }

    public async ValueTask DisposeAsync()
    {
        await ending.CancelAsync();
        listener.Dispose();
        await accepting.ContinueWith(_ => { }, TaskScheduler.Default);
        ending.Dispose();
    }

    private async Task AcceptAsync(ClientAddresses addresses, string database)
    {
        while (!ending.IsCancellationRequested)
        {
            var client = await listener.AcceptTcpClientAsync(ending.Token);
            _ = LeadAsync(client, addresses.LeadsTo(database));
        }
    }

    private async Task LeadAsync(TcpClient client, (string Address, int Port)? to)
    {
        using (client)
        using (var there = new TcpClient())
        {
            try
            {
                if (to is not var (address, port))
                {
                    return;
                }

                await there.ConnectAsync(address, port, ending.Token);
                await using var one = client.GetStream();
                await using var other = there.GetStream();
                await Task.WhenAny(one.CopyToAsync(other, ending.Token), other.CopyToAsync(one, ending.Token));
            }
            catch (Exception e) when (e is SocketException or IOException or OperationCanceledException)
            {
                // Whoever is connected sees that it ended.
            }
        }
    }
}
