return await Imbrek.Server.ImbrekServer.RunAsync(args, new Imbrek.Demo.DemoGuest(args));
