using System.Globalization;
using System.Net;
using System.Net.Sockets;

namespace Imbrek.PostgreSql.Cluster;

/// <summary>Ports for what will listen on this machine, again and again: never one that the system gives to outgoing connections, which would take it while nobody listens, be it only whoever asks whether somebody does.</summary>
internal static class FreePort
{
    private const string OutgoingRange = "/proc/sys/net/ipv4/ip_local_port_range";

    private const int First = 16_384, FirstOutgoing = 32_768, Tries = 100;

    /// <summary>A port of loopback at which nobody listens in this moment.</summary>
    /// <exception cref="InvalidOperationException">None was found.</exception>
    public static int Find()
    {
        // Where the system gives to them all from the first on, no port is better than another.
        var end = File.Exists(OutgoingRange) && int.TryParse(File.ReadAllText(OutgoingRange).Split('\t', ' ')[0], CultureInfo.InvariantCulture, out var first) && first > First ? first : FirstOutgoing;
        for (var i = 0; i < Tries; i++)
        {
#pragma warning disable CA5394 // Nothing rests on nobody guessing it.
            var port = Random.Shared.Next(First, end);
#pragma warning restore CA5394
            try
            {
                using var listener = new TcpListener(IPAddress.Loopback, port);
                listener.Start();
                return port;
            }
            catch (SocketException)
            {
                // Taken: another one.
            }
        }

        throw new InvalidOperationException($"none of {Tries} ports from {First} to {end} was free");
    }
}
